package cli

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"os/signal"
	"strconv"
	"strings"
	"syscall"

	"github.com/spf13/cobra"

	"kettlehole/internal/api"
	"kettlehole/internal/client"
	"kettlehole/internal/plan"
	"kettlehole/internal/reach/browse"
)

func (a *App) proxyCommand() *cobra.Command {
	var named, at string
	cmd := &cobra.Command{
		Use:   "proxy",
		Short: "Let a browser use a living lab's own names and addresses",
		Long: `Proxy serves HTTP and SOCKS version 5 on one port of 127.0.0.1 until it is
interrupted, and leads into the lab alone: to nodes, groups and fronts by name
or address, from inside the lab.`,
		Example: "  kettlehole proxy --at 127.0.0.1:3128\n  curl --proxy http://127.0.0.1:3128 http://gate-1/\n  curl --proxy socks5h://127.0.0.1:3128 http://gate-1.avalanche-desk.internal/",
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			lab, err := a.pick(cmd.Context(), named)
			if err != nil {
				return err
			}
			return a.proxy(cmd.Context(), lab, at)
		},
	}
	labFlag(cmd, &named)
	cmd.Flags().StringVar(&at, "at", "127.0.0.1:0", "address and port to listen on; port 0 is one that is free")
	return cmd
}

func (a *App) proxy(ctx context.Context, lab *client.Lab, at string) error {
	ctx, stop := signal.NotifyContext(ctx, os.Interrupt, syscall.SIGTERM)
	defer stop()
	if address, err := netip.ParseAddrPort(at); err != nil || !address.Addr().IsLoopback() {
		return wrongUse("%q is no address and port of this workstation's loopback, such as 127.0.0.1:3128", at)
	}
	state, err := lab.State(ctx)
	if err != nil {
		return err
	}
	listener, err := net.Listen("tcp", at)
	if err != nil {
		return &exit{ExitWorkstation, err}
	}
	defer listener.Close()
	var networks [][2]string
	for _, n := range state.Plan.Networks {
		if n.Subnet.Addr().Is4() {
			networks = append(networks, [2]string{n.Subnet.Addr().String(), net.IP(net.CIDRMask(n.Subnet.Bits(), 32)).String()})
		}
	}
	p := browse.New(func(ctx context.Context, host string, port uint16) (net.Conn, error) {
		return dialInto(ctx, lab, host, port)
	}, browse.Script(listener.Addr().String(), lab.Name, networks))
	defer p.Close()
	fmt.Fprintf(a.Out, "proxy into %s on %s, HTTP and SOCKS; browsers find their settings at http://%s%s\n", lab.Name, listener.Addr(), listener.Addr(), browse.ScriptPath)
	go func() {
		<-ctx.Done()
		_ = listener.Close()
	}()
	p.Serve(listener)
	return nil
}

// dialInto opens a connection to a host of the lab as it is now: to a node
// from the node itself, to all else from a node that is on the same network.
func dialInto(ctx context.Context, lab *client.Lab, host string, port uint16) (net.Conn, error) {
	state, err := lab.State(ctx)
	if err != nil {
		return nil, err
	}
	if state.Plan == nil {
		return nil, fmt.Errorf("there is no lab %q", lab.Name)
	}
	host = strings.TrimSuffix(strings.ToLower(host), ".")
	host = strings.TrimSuffix(strings.TrimSuffix(host, ".internal"), "."+lab.Name)
	if _, is := state.Plan.Node(host); is {
		return lab.Agent(host).DialPort(ctx, port)
	}
	address, err := netip.ParseAddr(host)
	if err != nil {
		if address, err = addressOf(state, host); err != nil {
			return nil, err
		}
	}
	for _, n := range state.Plan.Nodes {
		for _, tap := range n.Taps {
			if !lives(state, n.Name) || !onTap(tap, address) {
				continue
			}
			return lab.Agent(n.Name).DialAddress(ctx, net.JoinHostPort(address.String(), strconv.Itoa(int(port))))
		}
	}
	return nil, fmt.Errorf("%s is no host of the lab %s that can be reached now", host, lab.Name)
}

// addressOf finds a front, or the first node of a group that lives.
func addressOf(state api.State, name string) (netip.Addr, error) {
	for _, f := range state.Plan.Fronts {
		if f.Name == name {
			return f.Address.Addr(), nil
		}
	}
	for _, n := range state.Plan.Nodes {
		if n.Group == name && lives(state, n.Name) {
			return n.Address(), nil
		}
	}
	return netip.Addr{}, errors.New("the lab has no host " + strconv.Quote(name))
}

func lives(state api.State, node string) bool {
	for _, n := range state.Nodes {
		if n.Name == node {
			return api.Runs(n.State)
		}
	}
	return false
}

func onTap(tap plan.Tap, address netip.Addr) bool {
	return tap.Address.Masked().Contains(address) || tap.Address6.IsValid() && tap.Address6.Masked().Contains(address)
}
