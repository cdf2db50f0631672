package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"kettlehole/internal/api"
	"kettlehole/internal/client"
	"kettlehole/internal/home"
	"kettlehole/internal/passing"
)

func (a *App) accessCommand() *cobra.Command {
	var named, to, port string
	var include, asJSON bool
	cmd := &cobra.Command{
		Use:   "access",
		Short: "Print what ssh, scp, sftp and rsync need to come in",
		Long: `Access prints what the ordinary SSH clients must know of a living lab, so that
"ssh NODE.LAB" just works: no password, no question about a host's key, and
nothing written to files of yours. The keys are the lab's own, and go with it.

To have that for every lab of this workstation, put the line that
"access --include" prints at the head of your own ~/.ssh/config, once.

With --port, ssh may also come in on a port of 127.0.0.1, for programs that
know nothing of sockets; there the user's name is the node's.`,
		Example: "  kettlehole access > lab.conf && ssh -F lab.conf council-1.avalanche-desk\n  kettlehole access --include\n  kettlehole access --port auto",
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if include {
				fmt.Fprintf(a.Out, "Include \"%s\"\n", filepath.Join(a.Station.Home.Lab("*"), home.SSH, home.SSHConfig))
				return nil
			}
			lab, err := a.pick(cmd.Context(), named)
			if err != nil {
				return err
			}
			switch {
			case to != "":
				return a.passThrough(cmd.Context(), lab, to)
			case port != "":
				if err := lab.SetAccess(cmd.Context(), api.Access{Port: port}); err != nil {
					return err
				}
			}
			return a.writeAccess(cmd.Context(), lab, port != "", asJSON)
		},
	}
	labFlag(cmd, &named)
	cmd.Flags().StringVar(&to, "to", "", "pass one connection to this node (what ssh calls)")
	_ = cmd.Flags().MarkHidden("to")
	cmd.Flags().StringVar(&port, "port", "", "also let ssh in on this port of 127.0.0.1: a number, auto, or off")
	cmd.Flags().BoolVar(&include, "include", false, "print the line that makes ssh know every lab")
	cmd.Flags().BoolVar(&asJSON, "json", false, "print JSON")
	return cmd
}

// access is what it takes to come in, as data.
type access struct {
	Config string   `json:"config"` // path of the file for ssh -F
	Key    string   `json:"key"`    // path of the private key
	Known  string   `json:"known"`  // path of the file of known hosts
	Port   string   `json:"port,omitempty"`
	Hosts  []string `json:"hosts"`
}

func (a *App) writeAccess(ctx context.Context, lab *client.Lab, changed, asJSON bool) error {
	state, err := lab.State(ctx)
	if err != nil {
		return err
	}
	folder := filepath.Join(a.Station.Home.Lab(lab.Name), home.SSH)
	facts := access{Config: filepath.Join(folder, home.SSHConfig), Key: filepath.Join(folder, "key"), Known: filepath.Join(folder, "known")}
	for _, n := range state.Plan.Nodes {
		facts.Hosts = append(facts.Hosts, n.Name+"."+lab.Name)
	}
	if state.Plan.Access.IsValid() {
		facts.Port = state.Plan.Access.String()
	}
	if asJSON {
		return a.printJSON(facts)
	}
	if changed && facts.Port == "" {
		fmt.Fprintln(a.Out, "ssh comes in by its socket alone")
		return nil
	}
	if changed {
		fmt.Fprintf(a.Out, "ssh comes in on %s; the user's name is the node's:\n  ssh -F %s -p %d %s@ssh.%s -o ProxyCommand=none -o HostName=%s -o HostKeyAlias=lab.%s\n", facts.Port, facts.Config, state.Plan.Access.Port(), state.Plan.Nodes[0].Name, lab.Name, state.Plan.Access.Addr(), lab.Name)
		return nil
	}
	text, err := os.ReadFile(facts.Config)
	if errors.Is(err, os.ErrNotExist) {
		return &exit{ExitLab, fmt.Errorf("lab %s has no keys yet; provision it", lab.Name)}
	} else if err != nil {
		return err
	}
	_, err = a.Out.Write(text)
	return err
}

// passThrough connects standard output, which ssh made a socket for it
// (ProxyUseFdpass, ssh_config(5)), to a node: the connection itself is handed
// over, and this program is done. Where it is no socket, bytes are passed.
func (a *App) passThrough(ctx context.Context, lab *client.Lab, to string) error {
	conn, err := lab.Login(ctx, strings.TrimSuffix(strings.ToLower(to), "."+lab.Name))
	if err != nil {
		return nodeError(err)
	}
	defer conn.Close()
	if out, isFile := a.Out.(*os.File); isFile {
		if socket, err := net.FileConn(out); err == nil {
			defer socket.Close()
			if to, isUnix := socket.(*net.UnixConn); isUnix {
				return passing.Send(to, 0, conn.(*net.UnixConn))
			}
		}
	}
	go func() {
		_, _ = io.Copy(conn, a.In)
		_ = conn.(*net.UnixConn).CloseWrite()
	}()
	_, err = io.Copy(a.Out, conn)
	return err
}
