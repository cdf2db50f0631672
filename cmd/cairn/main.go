// Cairn is a small ledger of readings that several members agree on by Raft
// consensus. It is the clustered program of the demo lab, a stand-in for what
// people really install.
package main

import (
	"errors"
	"flag"
	"fmt"
	"os"
	"slices"
	"strings"
)

const usage = `cairn keeps a ledger of readings that its members agree on.

  cairn serve --name NAME --listen ADDRESS:PORT   be a member; Raft uses the port above
  cairn found [--print-ticket]                    make the member on this machine the first of a ledger
  cairn join --ticket TICKET ADDRESS:PORT...      bring the member on this machine into a ledger
  cairn member --ready                            exit 0 if the member on this machine is level with its ledger
  cairn members [--json | --count-ready]          list members
  cairn leader                                    name the leader
  cairn put KEY VALUE                             write
  cairn get KEY                                   read what is agreed on
  cairn station --name NAME --servers A:P,B:P     post a made-up slope reading every half second
  cairn door --listen ADDRESS:PORT --servers A:P  serve one page about the ledger
`

// commands are what cairn does, by name.
var commands = map[string]func(args []string) error{
	"serve": serve, "found": found, "join": join, "member": member, "members": members, "leader": leader,
	"put": put, "get": get, "station": station, "door": door,
}

var errUsage = errors.New("wrong use; see cairn help")

func main() {
	if len(os.Args) < 2 || slices.Contains([]string{"help", "-h", "--help"}, os.Args[1]) {
		fmt.Print(usage)
		return
	}
	command, known := commands[os.Args[1]]
	if !known {
		fmt.Fprintf(os.Stderr, "cairn: there is no command %q\n%s", os.Args[1], usage)
		os.Exit(2)
	}
	if err := command(os.Args[2:]); err != nil {
		fmt.Fprintln(os.Stderr, "cairn:", err)
		if errors.Is(err, errUsage) || errors.Is(err, flag.ErrHelp) {
			os.Exit(2)
		}
		os.Exit(1)
	}
}

// flags reads options and gives the words after them.
func flags(args []string, define func(f *flag.FlagSet)) ([]string, error) {
	f := flag.NewFlagSet("cairn", flag.ContinueOnError)
	f.SetOutput(os.Stderr)
	define(f)
	if err := f.Parse(args); err != nil {
		return nil, errUsage
	}
	return f.Args(), nil
}

// list splits server addresses at commas and blanks.
func list(text string) []string {
	return strings.FieldsFunc(text, func(r rune) bool { return r == ',' || r == ' ' })
}
