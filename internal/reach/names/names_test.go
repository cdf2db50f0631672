package names

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"testing"

	"github.com/miekg/dns"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"kettlehole/internal/plan"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

func addr(text string) netip.Addr { return netip.MustParseAddr(text) }

// desk has two nodes that share no network but one, IPv6 beside IPv4 on the
// second, a front and reserves.
func desk() *plan.Plan {
	tap := func(network, address, six string) plan.Tap {
		t := plan.Tap{Network: network, Address: netip.MustParsePrefix(address)}
		if six != "" {
			t.Address6 = netip.MustParsePrefix(six)
		}
		return t
	}
	return &plan.Plan{Lab: "desk",
		Networks: []plan.Network{{Name: "valley", Subnet: netip.MustParsePrefix("10.61.0.0/24"), Egress: true},
			{Name: "ridge", Subnet: netip.MustParsePrefix("10.62.0.0/24"), Subnet6: netip.MustParsePrefix("fd62::/64")}},
		Nodes: []plan.Node{
			{Name: "web-1", Group: "web", Taps: []plan.Tap{tap("valley", "10.61.0.11/24", ""), tap("ridge", "10.62.0.11/24", "fd62::11/64")}},
			{Name: "web-2", Group: "web", Taps: []plan.Tap{tap("valley", "10.61.0.12/24", ""), tap("ridge", "10.62.0.12/24", "fd62::12/64")}},
			{Name: "far-1", Group: "far", Taps: []plan.Tap{tap("ridge", "10.62.0.21/24", "fd62::21/64")}}},
		Fronts: []plan.Front{{Name: "site", Network: "ridge", Address: netip.MustParsePrefix("10.62.0.5/24"), Address6: netip.MustParsePrefix("fd62::5/64")}},
		Reserves: []plan.Reserve{{Name: "vip", Network: "valley", First: addr("10.61.0.200"), Last: addr("10.61.0.201")},
			{Name: "inner", First: addr("10.200.0.0"), Last: addr("10.200.255.255")},
			{Name: "wide", Network: "valley", First: addr("10.61.0.100"), Last: addr("10.61.0.199")}}}
}

func resolver(away ...string) *Resolver {
	r := NewResolver(func(_ context.Context, q *dns.Msg) (*dns.Msg, error) {
		if q.Question[0].Name == "broken.example." {
			return nil, errors.New("nobody answers")
		}
		m := new(dns.Msg).SetReply(q)
		m.Answer = []dns.RR{&dns.TXT{Hdr: head(q.Question[0].Name, dns.TypeTXT), Txt: []string{"from outside"}}}
		m.Id = 1
		return m, nil
	})
	r.Know(Of(desk(), func(node string) bool {
		for _, one := range away {
			if one == node {
				return true
			}
		}
		return false
	}))
	return r
}

// ask puts one question as the node with the address.
func ask(r *Resolver, asker, name string, kind uint16) (texts []string, code int) {
	q := new(dns.Msg).SetQuestion(name, kind)
	a := r.Answer(addr(asker), q)
	for _, rr := range a.Answer {
		switch rr := rr.(type) {
		case *dns.A:
			texts = append(texts, rr.A.String())
		case *dns.AAAA:
			texts = append(texts, rr.AAAA.String())
		case *dns.PTR:
			texts = append(texts, rr.Ptr)
		case *dns.TXT:
			texts = append(texts, rr.Txt...)
		}
	}
	return texts, a.Rcode
}

func TestAnswers(t *testing.T) {
	r := resolver()
	const near, far = "10.61.0.11", "10.62.0.21"
	for _, c := range []struct {
		asker, name string
		kind        uint16
		want        []string
		code        int
	}{
		{near, "web-2.", dns.TypeA, []string{"10.61.0.12"}, 0},
		{near, "WEB-2.Desk.Internal.", dns.TypeA, []string{"10.61.0.12"}, 0},
		{near, "web-2.desk.", dns.TypeA, []string{"10.61.0.12"}, 0},
		{far, "web-2.", dns.TypeA, []string{"10.62.0.12"}, 0}, // what it can reach
		{far, "web-2.", dns.TypeAAAA, []string{"fd62::12"}, 0},
		{"fd62::21", "web-2.", dns.TypeAAAA, []string{"fd62::12"}, 0},
		{near, "far-1.", dns.TypeA, []string{"10.62.0.21"}, 0},
		{near, "web-2.", dns.TypeAAAA, nil, 0}, // known, and has none there
		{near, "web-2.", dns.TypeMX, nil, 0},
		{far, "web.", dns.TypeA, []string{"10.62.0.11", "10.62.0.12"}, 0},
		{far, "site.", dns.TypeA, []string{"10.62.0.5"}, 0},
		{far, "site.", dns.TypeAAAA, []string{"fd62::5"}, 0},
		{near, "vip.desk.internal.", dns.TypeA, []string{"10.61.0.200", "10.61.0.201"}, 0},
		{near, "inner.", dns.TypeA, nil, dns.RcodeNameError},
		{near, "wide.", dns.TypeA, nil, dns.RcodeNameError},
		{near, "web-3.desk.internal.", dns.TypeA, nil, dns.RcodeNameError},
		{near, "12.0.61.10.in-addr.arpa.", dns.TypePTR, []string{"web-2.desk.internal."}, 0},
		{near, "5.0.62.10.in-addr.arpa.", dns.TypePTR, []string{"site.desk.internal."}, 0},
		{near, "99.0.61.10.in-addr.arpa.", dns.TypePTR, nil, dns.RcodeNameError},
		{near, mustReverse("fd62::12"), dns.TypePTR, []string{"web-2.desk.internal."}, 0},
		{near, "example.com.", dns.TypeTXT, []string{"from outside"}, 0},
		{near, "1.2.3.4.in-addr.arpa.", dns.TypeTXT, []string{"from outside"}, 0},
		{near, "broken.example.", dns.TypeTXT, nil, dns.RcodeServerFailure},
		{far, "example.com.", dns.TypeTXT, nil, dns.RcodeNameError}, // no egress, no outside
		{near, ".", dns.TypeNS, []string{"from outside"}, 0},
	} {
		got, code := ask(r, c.asker, c.name, c.kind)
		assert.ElementsMatch(t, c.want, got, "%s asks %s %s", c.asker, c.name, dns.TypeToString[c.kind])
		assert.Equal(t, c.code, code, "%s asks %s %s", c.asker, c.name, dns.TypeToString[c.kind])
	}
}

func mustReverse(address string) string {
	name, err := dns.ReverseAddr(address)
	if err != nil {
		panic(err)
	}
	return name
}

// Nodes that do not live are left out of their group while another one lives,
// and what changed is known at once.
func TestComingAndGoing(t *testing.T) {
	r := resolver("web-1")
	got, _ := ask(r, "10.61.0.12", "web.", dns.TypeA)
	assert.Equal(t, []string{"10.61.0.12"}, got)
	got, _ = ask(r, "10.61.0.12", "web-1.", dns.TypeA)
	assert.Equal(t, []string{"10.61.0.11"}, got, "its own name leads to it all the same")
	r.Know(Of(desk(), func(string) bool { return true }))
	got, _ = ask(r, "10.61.0.12", "web.", dns.TypeA)
	assert.Len(t, got, 2, "with none left the name leads where they will be")
	first := map[string]int{}
	r.Know(Of(desk(), func(string) bool { return false }))
	for range 10 {
		got, _ = ask(r, "10.61.0.12", "web.", dns.TypeA)
		first[got[0]]++
	}
	assert.Equal(t, map[string]int{"10.61.0.11": 5, "10.61.0.12": 5}, first, "each in its turn")
}

func TestAnswerIsWellMade(t *testing.T) {
	r := resolver()
	q := new(dns.Msg).SetQuestion("web-1.", dns.TypeA)
	a := r.Answer(addr("10.61.0.12"), q)
	assert.True(t, a.Authoritative)
	assert.Equal(t, q.Id, a.Id)
	assert.Zero(t, a.Answer[0].Header().Ttl)
	q = new(dns.Msg).SetQuestion("example.com.", dns.TypeTXT)
	assert.Equal(t, q.Id, r.Answer(addr("10.61.0.12"), q).Id, "the outside's number is not the asker's")
	q.Opcode = dns.OpcodeNotify
	assert.Equal(t, dns.RcodeNotImplemented, r.Answer(addr("10.61.0.12"), q).Rcode)
	assert.Equal(t, dns.RcodeNotImplemented, r.Answer(addr("10.61.0.12"), new(dns.Msg)).Rcode)
}

func TestReversed(t *testing.T) {
	for _, text := range []string{"10.61.0.12", "fd62::12", "::", "255.255.255.255", "2001:db8::ffff:1"} {
		got, is := reversed(mustReverse(text))
		assert.True(t, is, text)
		assert.Equal(t, addr(text), got)
	}
	for _, wrong := range []string{"", ".", "in-addr.arpa.", "1.in-addr.arpa.", "1.2.3.256.in-addr.arpa.", "-1.2.3.4.in-addr.arpa.", "x.ip6.arpa.", "ip6.arpa."} {
		_, is := reversed(wrong)
		assert.False(t, is, wrong)
	}
}

// Whatever comes over the wire is answered or refused, and what was understood
// reads back the same.
func FuzzAnswer(f *testing.F) {
	for _, q := range []struct {
		name string
		kind uint16
	}{{"web-1.desk.internal.", dns.TypeA}, {"12.0.61.10.in-addr.arpa.", dns.TypePTR}, {mustReverse("fd62::12"), dns.TypePTR}, {"example.com.", dns.TypeANY}} {
		text, err := new(dns.Msg).SetQuestion(q.name, q.kind).Pack()
		require.NoError(f, err)
		f.Add(text)
	}
	r := resolver()
	f.Fuzz(func(t *testing.T, text []byte) {
		var q dns.Msg
		if q.Unpack(text) != nil {
			return
		}
		a := r.Answer(addr("10.61.0.11"), &q)
		if _, err := a.Pack(); err != nil {
			t.Skip(fmt.Sprint(err)) // a question that cannot be written back either
		}
	})
}

func FuzzReversed(f *testing.F) {
	f.Add("12.0.61.10.in-addr.arpa.")
	f.Add(mustReverse("fd62::12"))
	f.Fuzz(func(t *testing.T, name string) {
		if address, is := reversed(name); is {
			again, is := reversed(mustReverse(address.String()))
			assert.True(t, is)
			assert.Equal(t, address, again)
		}
	})
}
