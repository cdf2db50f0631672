package fabric

import (
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"slices"

	"github.com/google/nftables"
	"github.com/google/nftables/binaryutil"
	"github.com/google/nftables/expr"
	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"
)

// Ports are those of the transparent sockets that take what leaves the lab's
// networks, in the lab's namespace: by protocol and address family.
type Ports struct{ TCP4, TCP6, UDP4, UDP6 uint16 }

const (
	outTable = "kettlehole"
	outMark  = 1   // of packets that are to be taken
	outRoute = 100 // the routing table in which everywhere is here
)

// nowhere are destinations that never leave a network: multicast, broadcast,
// link-local (RFC 1112, RFC 919, RFC 4291).
var nowhere = []netip.Prefix{netip.MustParsePrefix("224.0.0.0/3"), netip.MustParsePrefix("ff00::/8"), netip.MustParsePrefix("fe80::/10")}

// Still keeps the lab's namespace from passing packets between networks: they
// meet in nodes alone. And frames that cross a bridge are no packets of the
// namespace: with br_netfilter they would be, and what is taken on the way out
// would be lost again.
func Still() error {
	for _, name := range []string{"ipv4/conf/all/forwarding", "ipv4/conf/default/forwarding", "ipv6/conf/all/forwarding", "ipv6/conf/default/forwarding",
		"bridge/bridge-nf-call-iptables", "bridge/bridge-nf-call-ip6tables", "bridge/bridge-nf-call-arptables"} {
		if err := os.WriteFile("/proc/sys/net/"+name, []byte("0"), 0); err != nil && !errors.Is(err, os.ErrNotExist) {
			return fmt.Errorf("keeping networks apart: %w", err)
		}
	}
	return nil
}

// Egress hands what nodes of the networks with egress send to everywhere else
// to the transparent sockets, in the lab's own namespace (nft(8), tproxy).
// local are the ranges of all networks. Nothing outside of the lab's namespace
// is touched.
func Egress(networks []Network, local []netip.Prefix, ports Ports) error {
	c, err := nftables.New()
	if err != nil {
		return fmt.Errorf("opening the way out: %w", err)
	}
	table := &nftables.Table{Name: outTable, Family: nftables.TableFamilyINet}
	c.AddTable(table)
	c.FlushTable(table)
	policy := nftables.ChainPolicyAccept
	chain := c.AddChain(&nftables.Chain{Name: "out", Table: table, Type: nftables.ChainTypeFilter, Hooknum: nftables.ChainHookPrerouting, Priority: nftables.ChainPriorityMangle, Policy: &policy})
	open := false
	for _, n := range networks {
		if !n.Egress {
			continue
		}
		open = true
		from := fromBridge(bridgeName(n.Name))
		for _, prefix := range append(local[:len(local):len(local)], nowhere...) {
			c.AddRule(&nftables.Rule{Table: table, Chain: chain, Exprs: append(append(from(), toPrefix(prefix)...), &expr.Verdict{Kind: expr.VerdictReturn})})
		}
		for _, way := range []struct {
			family, protocol byte
			port             uint16
		}{{unix.NFPROTO_IPV4, unix.IPPROTO_TCP, ports.TCP4}, {unix.NFPROTO_IPV4, unix.IPPROTO_UDP, ports.UDP4}, {unix.NFPROTO_IPV6, unix.IPPROTO_TCP, ports.TCP6}, {unix.NFPROTO_IPV6, unix.IPPROTO_UDP, ports.UDP6}} {
			if way.port == 0 {
				continue
			}
			c.AddRule(&nftables.Rule{Table: table, Chain: chain, Exprs: append(from(),
				&expr.Meta{Key: expr.MetaKeyNFPROTO, Register: 1}, &expr.Cmp{Op: expr.CmpOpEq, Register: 1, Data: []byte{way.family}},
				&expr.Meta{Key: expr.MetaKeyL4PROTO, Register: 1}, &expr.Cmp{Op: expr.CmpOpEq, Register: 1, Data: []byte{way.protocol}},
				&expr.Immediate{Register: 1, Data: binary.BigEndian.AppendUint16(nil, way.port)},
				&expr.TProxy{Family: way.family, TableFamily: unix.NFPROTO_INET, RegPort: 1},
				&expr.Immediate{Register: 1, Data: binaryutil.NativeEndian.PutUint32(outMark)}, &expr.Meta{Key: expr.MetaKeyMARK, SourceRegister: true, Register: 1},
				&expr.Verdict{Kind: expr.VerdictAccept})})
		}
	}
	if err := c.Flush(); err != nil {
		return fmt.Errorf("opening the way out: %w", err)
	}
	if !open {
		return nil
	}
	return everywhereIsHere()
}

func fromBridge(name string) func() []expr.Any {
	padded := make([]byte, unix.IFNAMSIZ)
	copy(padded, name)
	return func() []expr.Any {
		return []expr.Any{&expr.Meta{Key: expr.MetaKeyIIFNAME, Register: 1}, &expr.Cmp{Op: expr.CmpOpEq, Register: 1, Data: padded}}
	}
}

// toPrefix matches packets whose destination lies in a range; its place in the
// header is by RFC 791, section 3.1, and RFC 8200, section 3.
func toPrefix(prefix netip.Prefix) []expr.Any {
	family, offset, length := byte(unix.NFPROTO_IPV4), uint32(16), 4
	if prefix.Addr().Is6() {
		family, offset, length = unix.NFPROTO_IPV6, 24, 16
	}
	return []expr.Any{
		&expr.Meta{Key: expr.MetaKeyNFPROTO, Register: 1}, &expr.Cmp{Op: expr.CmpOpEq, Register: 1, Data: []byte{family}},
		&expr.Payload{DestRegister: 1, Base: expr.PayloadBaseNetworkHeader, Offset: offset, Len: uint32(length)},
		&expr.Bitwise{SourceRegister: 1, DestRegister: 1, Len: uint32(length), Mask: net.CIDRMask(prefix.Bits(), 8*length), Xor: make([]byte, length)},
		&expr.Cmp{Op: expr.CmpOpEq, Register: 1, Data: prefix.Masked().Addr().AsSlice()},
	}
}

// everywhereIsHere routes marked packets to this namespace's own sockets.
func everywhereIsHere() error {
	loopback, err := netlink.LinkByName("lo")
	if err != nil {
		return fmt.Errorf("opening the way out: %w", err)
	}
	for _, everywhere := range []string{"0.0.0.0/0", "::/0"} {
		_, to, err := net.ParseCIDR(everywhere)
		if err != nil {
			return err
		}
		family := netlink.FAMILY_V4
		if to.IP.To4() == nil {
			family = netlink.FAMILY_V6
		}
		if err := netlink.RouteReplace(&netlink.Route{LinkIndex: loopback.Attrs().Index, Dst: to, Table: outRoute, Type: unix.RTN_LOCAL, Scope: netlink.SCOPE_HOST, Family: family}); err != nil {
			return fmt.Errorf("opening the way out, route: %w", err)
		}
		rules, err := netlink.RuleList(family)
		if err != nil {
			return fmt.Errorf("opening the way out, rules: %w", err)
		}
		if slices.ContainsFunc(rules, func(r netlink.Rule) bool { return r.Table == outRoute }) {
			continue
		}
		rule := netlink.NewRule()
		rule.Family, rule.Mark, rule.Table = family, outMark, outRoute
		if err := netlink.RuleAdd(rule); err != nil {
			return fmt.Errorf("opening the way out, rule: %w", err)
		}
	}
	return nil
}
