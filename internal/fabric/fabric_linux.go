// Package fabric makes a lab's networks in the kernel, through netlink
// (rtnetlink(7)): bridges, the links of nodes, addresses. It works in the
// network namespace of the calling process, which must be one made for a lab,
// and forks no tool.
//
// Each call takes the whole wanted state of what it is about, works out the
// difference to what is there, and may be repeated.
package fabric

import (
	"crypto/sha256"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"runtime"
	"slices"
	"strings"
	"time"

	"github.com/vishvananda/netlink"
	"github.com/vishvananda/netlink/nl"
	"golang.org/x/sys/unix"
)

// The first thread of a process cannot end: one that was moved into a node's
// namespace would hold it for good. Locked to the main goroutine from the start
// on, it is never one of those that are thrown away, here or in packages above.
func init() { runtime.LockOSThread() }

// longest is the longest name of an interface, in bytes (IFNAMSIZ less one).
const longest = 15

const (
	bridgePrefix = "n-"
	linkPrefix   = "t-"
)

// bridgeName is the name of a network's bridge.
func bridgeName(network string) string {
	if name := bridgePrefix + network; len(name) <= longest {
		return name
	}
	return bridgePrefix + digest(network)
}

// linkName is the name of the bridge's end of a node's link.
func linkName(node, network string) string { return linkPrefix + digest(node, network) }

func digest(words ...string) string {
	return fmt.Sprintf("%x", sha256.Sum256([]byte(strings.Join(words, "\x00"))))[:10]
}

// Prepare readies a new network namespace: its loopback is up, interfaces made
// in it get no IPv6 address by themselves, and one that loses its first address
// keeps the others.
func Prepare() error {
	// 1 is IN6_ADDR_GEN_MODE_NONE (linux/if_link.h); a kernel without IPv6 has no such file.
	err := os.WriteFile("/proc/sys/net/ipv6/conf/default/addr_gen_mode", []byte("1"), 0)
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		return fmt.Errorf("preparing the network namespace: %w", err)
	}
	if err := os.WriteFile("/proc/sys/net/ipv4/conf/all/promote_secondaries", []byte("1"), 0); err != nil {
		return fmt.Errorf("preparing the network namespace: %w", err)
	}
	loopback, err := netlink.LinkByName("lo")
	if err == nil {
		err = netlink.LinkSetUp(loopback)
	}
	if err != nil {
		return fmt.Errorf("bringing the loopback up: %w", err)
	}
	return nil
}

// Networks makes the bridges of these networks with the lab's own addresses,
// and takes other bridges of ours away.
func Networks(networks []Network) error {
	links, err := netlink.LinkList()
	if err != nil {
		return fmt.Errorf("listing links: %w", err)
	}
	have := map[string]netlink.Link{}
	for _, link := range links {
		if name := link.Attrs().Name; link.Type() == "bridge" && strings.HasPrefix(name, bridgePrefix) {
			have[name] = link
		}
	}
	for _, n := range networks {
		name := bridgeName(n.Name)
		bridge := have[name]
		delete(have, name)
		if bridge == nil {
			if bridge, err = newBridge(name); err != nil {
				return err
			}
		}
		if err := ownAddresses(bridge, n.Addresses); err != nil {
			return err
		}
	}
	for name, link := range have {
		if err := netlink.LinkDel(link); err != nil {
			return fmt.Errorf("removing bridge %q: %w", name, err)
		}
	}
	return nil
}

func newBridge(name string) (netlink.Link, error) {
	snooping := false
	attrs := netlink.NewLinkAttrs()
	attrs.Name, attrs.Flags = name, net.FlagUp
	// Its own, or it would change with the links that come and go (IEEE 802,
	// locally administered).
	sum := sha256.Sum256([]byte(name))
	attrs.HardwareAddr = append(net.HardwareAddr{0x02}, sum[:5]...)
	if err := netlink.LinkAdd(&netlink.Bridge{LinkAttrs: attrs, MulticastSnooping: &snooping}); err != nil {
		return nil, fmt.Errorf("creating bridge %q: %w", name, err)
	}
	bridge, err := netlink.LinkByName(name)
	if err == nil {
		err = netlink.LinkSetUp(bridge)
	}
	if err != nil {
		return nil, fmt.Errorf("bringing bridge %q up: %w", name, err)
	}
	return bridge, nil
}

// ownAddresses gives a bridge these addresses and no others.
func ownAddresses(bridge netlink.Link, want []netip.Prefix) error {
	name := bridge.Attrs().Name
	have, err := netlink.AddrList(bridge, netlink.FAMILY_ALL)
	if err != nil {
		return fmt.Errorf("listing the addresses of bridge %q: %w", name, err)
	}
	missing := slices.Clone(withLocal(want, bridge.Attrs().HardwareAddr))
	for _, one := range have {
		address, _ := netip.AddrFromSlice(one.IP)
		bits, _ := one.Mask.Size()
		prefix := netip.PrefixFrom(address.Unmap(), bits)
		if at := slices.Index(missing, prefix); at >= 0 {
			missing = slices.Delete(missing, at, at+1)
		} else if err := netlink.AddrDel(bridge, &one); err != nil {
			return fmt.Errorf("taking %s from bridge %q: %w", prefix, name, err)
		}
	}
	for _, address := range missing {
		if err := addAddress(bridge, address); err != nil {
			return err
		}
	}
	return nil
}

// Namespace makes the network namespace of a node with its links. It lives as
// long as the open file, or a process in it. Where anything fails it goes
// again, and its links with it.
func Namespace(node string, links []Link) (*os.File, error) {
	entered, linked, done := make(chan entry), make(chan error), make(chan error, 1)
	go func() {
		// Never unlocked, so that the thread dies with the goroutine and no
		// other one finds itself in this namespace.
		runtime.LockOSThread()
		entered <- enter()
		if <-linked == nil {
			done <- address(links)
		}
	}()
	in := <-entered
	err := in.err
	if err == nil {
		err = connect(in.namespace, node, links)
	}
	linked <- err
	if err == nil {
		err = <-done
	}
	if err != nil {
		if in.namespace != nil {
			_ = in.namespace.Close()
		}
		return nil, fmt.Errorf("making the network of %s: %w", node, err)
	}
	return in.namespace, nil
}

type entry struct {
	namespace *os.File
	err       error
}

// enter moves this thread into a new network namespace and opens that.
func enter() entry {
	if err := unix.Unshare(unix.CLONE_NEWNET); err != nil {
		return entry{err: fmt.Errorf("unsharing: %w", err)}
	}
	namespace, err := os.Open("/proc/thread-self/ns/net")
	if err == nil {
		err = Prepare()
	}
	return entry{namespace, err}
}

// connect makes the links from this process's bridges into a namespace.
func connect(namespace *os.File, node string, links []Link) error {
	for _, link := range links {
		bridge, err := netlink.LinkByName(bridgeName(link.Network))
		if err != nil {
			return fmt.Errorf("finding the bridge of network %q: %w", link.Network, err)
		}
		mac, err := net.ParseMAC(link.MAC)
		if err != nil {
			return err
		}
		create := func() error {
			return newPair(linkName(node, link.Network), link.Name, mac, bridge.Attrs().Index, int(namespace.Fd()))
		}
		err = create()
		for tries := 0; errors.Is(err, unix.EEXIST) && tries < staleTries; tries++ {
			// The end of a node that died: its namespace lives on in a program that
			// was left over, or the kernel is just taking it back.
			if err := removeStale(linkName(node, link.Network)); err != nil {
				return err
			}
			err = create()
		}
		if err != nil {
			return fmt.Errorf("creating link %s: %w", link.Name, err)
		}
	}
	return nil
}

// staleTries is how often a link is made while an old one of its name goes.
const staleTries = 100

// removeStale removes a link, unless that happens by itself meanwhile.
func removeStale(name string) error {
	old, err := netlink.LinkByName(name)
	var gone netlink.LinkNotFoundError
	if errors.As(err, &gone) {
		time.Sleep(time.Millisecond) // its name is given back in a moment
		return nil
	}
	if err != nil {
		return fmt.Errorf("finding an old link: %w", err)
	}
	if err := netlink.LinkDel(old); err != nil && !errors.Is(err, unix.ENODEV) {
		return fmt.Errorf("removing an old link: %w", err)
	}
	return nil
}

// newPair creates a pair of linked interfaces in one message, both up: outer
// here with its master set, inner already inside the namespace. A pair that is
// made first and moved afterwards costs the kernel thirty times as much.
func newPair(outer, inner string, mac net.HardwareAddr, master, namespace int) error {
	up := func() *nl.IfInfomsg {
		m := nl.NewIfInfomsg(unix.AF_UNSPEC)
		m.Flags, m.Change = unix.IFF_UP, unix.IFF_UP
		return m
	}
	request := nl.NewNetlinkRequest(unix.RTM_NEWLINK, unix.NLM_F_CREATE|unix.NLM_F_EXCL|unix.NLM_F_ACK)
	request.AddData(up())
	request.AddData(nl.NewRtAttr(unix.IFLA_IFNAME, nl.ZeroTerminated(outer)))
	request.AddData(nl.NewRtAttr(unix.IFLA_MASTER, nl.Uint32Attr(uint32(master))))
	info := nl.NewRtAttr(unix.IFLA_LINKINFO, nil)
	info.AddRtAttr(nl.IFLA_INFO_KIND, nl.NonZeroTerminated("veth"))
	peer := info.AddRtAttr(nl.IFLA_INFO_DATA, nil).AddRtAttr(nl.VETH_INFO_PEER, nil)
	nl.NewIfInfomsgChild(peer, unix.AF_UNSPEC)
	peer.AddRtAttr(unix.IFLA_IFNAME, nl.ZeroTerminated(inner))
	peer.AddRtAttr(unix.IFLA_ADDRESS, mac)
	peer.AddRtAttr(unix.IFLA_NET_NS_FD, nl.Uint32Attr(uint32(namespace)))
	request.AddData(info)
	_, err := request.Execute(unix.NETLINK_ROUTE, 0)
	return err
}

// addresses lists what the link gets.
func (l Link) addresses() []netip.Prefix {
	all := []netip.Prefix{l.Address}
	if l.Address6.IsValid() {
		all = append(all, l.Address6)
	}
	mac, err := net.ParseMAC(l.MAC)
	if err != nil {
		return all
	}
	return withLocal(all, mac)
}

// withLocal adds to the addresses of an interface with IPv6 the link-local one
// that neighbours are asked with (RFC 4291, sections 2.5.6 and 2.8).
func withLocal(all []netip.Prefix, mac net.HardwareAddr) []netip.Prefix {
	if len(mac) == 6 && slices.ContainsFunc(all, func(p netip.Prefix) bool { return p.Addr().Is6() }) {
		local := [16]byte{0xfe, 0x80, 8: mac[0] ^ 2, mac[1], mac[2], 0xff, 0xfe, mac[3], mac[4], mac[5]}
		return append(slices.Clone(all), netip.PrefixFrom(netip.AddrFrom16(local), 64))
	}
	return all
}

func addAddress(link netlink.Link, address netip.Prefix) error {
	one := &netlink.Addr{IPNet: &net.IPNet{IP: address.Addr().AsSlice(), Mask: net.CIDRMask(address.Bits(), address.Addr().BitLen())}}
	if address.Addr().Is6() {
		// Nobody else can have it, and it is wanted at once (RFC 4862, section 5.4).
		one.Flags = unix.IFA_F_NODAD
	}
	if err := netlink.AddrAdd(link, one); err != nil && !errors.Is(err, unix.EEXIST) {
		return fmt.Errorf("giving %s address %s: %w", link.Attrs().Name, address, err)
	}
	return nil
}

// address gives this thread's namespace its addresses, and its ways out.
func address(links []Link) error {
	for _, link := range links {
		inner, err := netlink.LinkByName(link.Name)
		if err != nil {
			return fmt.Errorf("finding link %s: %w", link.Name, err)
		}
		for _, address := range link.addresses() {
			if err := addAddress(inner, address); err != nil {
				return err
			}
		}
		if err := netlink.LinkSetUp(inner); err != nil {
			return fmt.Errorf("bringing %s up: %w", link.Name, err)
		}
		for _, gateway := range []netip.Addr{link.Gateway, link.Gateway6} {
			if !gateway.IsValid() {
				continue
			}
			if err := netlink.RouteReplace(&netlink.Route{LinkIndex: inner.Attrs().Index, Gw: gateway.AsSlice()}); err != nil {
				return fmt.Errorf("giving %s its way out through %s: %w", link.Name, gateway, err)
			}
		}
	}
	return nil
}
