package names

import (
	"context"
	"encoding/binary"
	"net"
	"net/netip"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"github.com/miekg/dns"
)

// Ask puts a question to the outside.
type Ask func(ctx context.Context, question *dns.Msg) (*dns.Msg, error)

// Resolver answers questions by the table that it holds at the moment. It is
// safe for concurrent use.
type Resolver struct {
	ask   Ask
	table atomic.Pointer[Table]
	turn  atomic.Uint64
}

// NewResolver makes a resolver that knows nothing yet.
func NewResolver(ask Ask) *Resolver {
	r := &Resolver{ask: ask}
	r.Know(Table{})
	return r
}

// Know puts another table in the place of the one before, at once.
func (r *Resolver) Know(t Table) { r.table.Store(&t) }

const (
	// outsideLimit is how long the outside may take over a question.
	outsideLimit = 5 * time.Second
	// plain is how large an answer may be for one who says nothing about it, in
	// bytes (RFC 1035, section 4.2.1).
	plain = 512
)

var _ dns.Handler = (*Resolver)(nil)

// ServeDNS answers one message.
func (r *Resolver) ServeDNS(w dns.ResponseWriter, question *dns.Msg) {
	asker := netip.Addr{}
	room := dns.MaxMsgSize
	switch remote := w.RemoteAddr().(type) {
	case *net.UDPAddr:
		asker, room = remote.AddrPort().Addr().Unmap(), plain
	case *net.TCPAddr:
		asker = remote.AddrPort().Addr().Unmap()
	}
	answer := r.Answer(asker, question)
	if extra := question.IsEdns0(); extra != nil {
		if room == plain {
			room = max(int(extra.UDPSize()), plain)
		}
		if answer.IsEdns0() == nil {
			answer.SetEdns0(dns.DefaultMsgSize, false)
		}
	}
	answer.Truncate(room)
	_ = w.WriteMsg(answer) // one who went away is no concern
}

// Answer answers a question of the node with this address.
func (r *Resolver) Answer(asker netip.Addr, question *dns.Msg) *dns.Msg {
	answer := new(dns.Msg).SetReply(question)
	answer.RecursionAvailable = true
	if question.Opcode != dns.OpcodeQuery || len(question.Question) != 1 || question.Question[0].Qclass != dns.ClassINET {
		answer.Rcode = dns.RcodeNotImplemented
		return answer
	}
	t, q := r.table.Load(), question.Question[0]
	name := strings.ToLower(q.Name)
	if known := r.fromTable(t, answer, asker, name, q); known {
		answer.Authoritative = true
		if len(answer.Answer) == 0 {
			answer.Ns = []dns.RR{begin(t)}
		}
		return answer
	}
	if !t.mayLeave(asker) {
		answer.Rcode = dns.RcodeNameError
		answer.Ns = []dns.RR{begin(t)}
		return answer
	}
	ctx, cancel := context.WithTimeout(context.Background(), outsideLimit)
	defer cancel()
	said, err := r.ask(ctx, question)
	if err != nil {
		answer.Rcode = dns.RcodeServerFailure
		return answer
	}
	said.Id = question.Id
	return said
}

// fromTable answers what is the lab's to answer, and tells whether it was.
func (r *Resolver) fromTable(t *Table, answer *dns.Msg, asker netip.Addr, name string, q dns.Question) bool {
	if address, is := reversed(name); is {
		host, in := t.reverse(address)
		if in && host == "" {
			answer.Rcode = dns.RcodeNameError
		} else if in && (q.Qtype == dns.TypePTR || q.Qtype == dns.TypeANY) {
			answer.Answer = []dns.RR{&dns.PTR{Hdr: head(q.Name, dns.TypePTR), Ptr: host + "." + t.Lab + ".internal."}}
		}
		return in
	}
	if label, short := t.label(name); short {
		if addresses, known := t.find(label, asker); known {
			answer.Answer = r.records(q, addresses)
			return true
		}
	}
	if t.owns(name) {
		answer.Rcode = dns.RcodeNameError
		return true
	}
	return false
}

// records gives the addresses of the family that is asked for, each time with
// another one first.
func (r *Resolver) records(q dns.Question, addresses []netip.Addr) []dns.RR {
	var all []dns.RR
	for _, a := range addresses {
		switch {
		case a.Is4() && (q.Qtype == dns.TypeA || q.Qtype == dns.TypeANY):
			all = append(all, &dns.A{Hdr: head(q.Name, dns.TypeA), A: a.AsSlice()})
		case a.Is6() && (q.Qtype == dns.TypeAAAA || q.Qtype == dns.TypeANY):
			all = append(all, &dns.AAAA{Hdr: head(q.Name, dns.TypeAAAA), AAAA: a.AsSlice()})
		}
	}
	if len(all) > 1 {
		first := int(r.turn.Add(1) % uint64(len(all)))
		all = append(all[first:len(all):len(all)], all[:first]...)
	}
	return all
}

// head is the head of a record that nobody may keep: names change at once.
func head(name string, kind uint16) dns.RR_Header {
	return dns.RR_Header{Name: name, Rrtype: kind, Class: dns.ClassINET}
}

// begin is the record that goes with an answer that there is nothing (RFC
// 2308, section 2).
func begin(t *Table) *dns.SOA {
	zone := "internal."
	if t.Lab != "" {
		zone = t.Lab + ".internal."
	}
	return &dns.SOA{Hdr: head(zone, dns.TypeSOA), Ns: zone, Mbox: zone, Serial: 1, Refresh: 1, Retry: 1, Expire: 1}
}

// reversed reads the name of an address (RFC 1035, section 3.5; RFC 3596,
// section 2.5).
func reversed(name string) (netip.Addr, bool) {
	if text, is := strings.CutSuffix(name, ".in-addr.arpa."); is {
		parts := strings.Split(text, ".")
		if len(parts) != 4 {
			return netip.Addr{}, false
		}
		var four [4]byte
		for i, part := range parts {
			octet, err := strconv.ParseUint(part, 10, 8)
			if err != nil {
				return netip.Addr{}, false
			}
			four[3-i] = byte(octet)
		}
		return netip.AddrFrom4(four), true
	}
	text, is := strings.CutSuffix(name, ".ip6.arpa.")
	if !is || len(text) != 63 {
		return netip.Addr{}, false
	}
	var halves [2]uint64
	for i, part := range strings.Split(text, ".") {
		nibble, err := strconv.ParseUint(part, 16, 4)
		if err != nil || len(part) != 1 || i > 31 {
			return netip.Addr{}, false
		}
		halves[1-i/16] |= nibble << (4 * (i % 16))
	}
	var sixteen [16]byte
	binary.BigEndian.PutUint64(sixteen[:8], halves[0])
	binary.BigEndian.PutUint64(sixteen[8:], halves[1])
	return netip.AddrFrom16(sixteen), true
}
