package labfile

import (
	"cmp"
	"fmt"
	"net/netip"
	"strconv"
	"strings"
	"unicode/utf8"
)

// Protocol is what a forward carries.
type Protocol string

// The protocols.
const (
	TCP Protocol = "tcp"
	UDP Protocol = "udp"
)

// Forward leads from a port of the workstation, or from a run of ports, to a
// node's.
type Forward struct {
	Name     string     `json:"name"`
	Bind     netip.Addr `json:"bind"`  // 127.0.0.1 unless the file says otherwise
	Port     uint16     `json:"port"`  // the first; 0 where the planner chooses ('auto')
	Count    int        `json:"count"` // of ports, 1 or more
	Protocol Protocol   `json:"protocol"`
	Node     string     `json:"node"`     // a node's name
	NodePort uint16     `json:"nodePort"` // the first; never 0
	Pos      Pos        `json:"-"`
	NodePos  Pos        `json:"-"` // of the node's name
	width    int        // of the whole text
}

// ForwardError is a mistake in the text of a forward.
type ForwardError struct {
	Column int // in characters from 1, inside the forward's text
	Width  int
	Reason string
	Remedy string
}

func (e *ForwardError) Error() string { return e.Reason }

const forwardExample = "write a workstation port, an arrow, a node and its port, such as 8080 -> gate-1:80, or auto -> gate-1:80"

// ParseForward reads "8080 -> gate-1:80", "auto -> gate-1:80",
// "30000-30019 -> gate-1:30000-30019", "127.0.0.2:53 -> gate-1:53/udp" or
// "[::1]:8080 -> gate-1:80". Its error is a [*ForwardError]. nodeColumn is
// where the node's name begins in the text, in characters from 1.
func ParseForward(text string) (f Forward, nodeColumn int, err error) {
	f = Forward{Bind: netip.AddrFrom4([4]byte{127, 0, 0, 1}), Count: 1, Protocol: TCP}
	// fail reports the word, which is a part of text.
	fail := func(word, remedy, format string, args ...any) (Forward, int, error) {
		column := 1
		if before, _, found := strings.Cut(text, word); found && word != "" {
			column = utf8.RuneCountInString(before) + 1
		}
		return f, nodeColumn, &ForwardError{column, max(utf8.RuneCountInString(word), 1), fmt.Sprintf(format, args...), remedy}
	}
	left, right, found := strings.Cut(text, "->")
	left, right = strings.TrimSpace(left), strings.TrimSpace(right)
	if !found || left == "" || right == "" {
		return fail(strings.TrimSpace(text), forwardExample, "%q is no forward", strings.TrimSpace(text))
	}
	bind, ports := "", left
	if at := strings.LastIndex(left, ":"); at >= 0 {
		bind, ports = left[:at], left[at+1:]
		if f.Bind, err = netip.ParseAddr(strings.Trim(bind, "[]")); err != nil {
			return fail(bind, "write an address such as 127.0.0.2 or [::1], or none for 127.0.0.1", "%q is no address of the workstation", bind)
		}
	}
	if _, protocol, has := strings.Cut(ports, "/"); has {
		return fail("/"+protocol, "write it at the end: "+forwardEnd(left, right, protocol), "the protocol stands behind the node's port")
	}
	last := uint16(0)
	if ports != "auto" {
		if f.Port, last, err = parsePorts(ports); err != nil {
			return fail(ports, "", "%v", err)
		}
		f.Count = int(last-f.Port) + 1
	}
	target, protocol, has := strings.Cut(right, "/")
	if has {
		if f.Protocol = Protocol(protocol); f.Protocol != TCP && f.Protocol != UDP {
			return fail("/"+protocol, "", "a forward carries tcp or udp, not %q", protocol)
		}
	}
	node, nodePorts, found := strings.Cut(target, ":")
	f.Node = strings.TrimSpace(node)
	behind := strings.Index(text, "->") + len("->")
	nodeColumn = utf8.RuneCountInString(text[:behind]) + len(text[behind:]) - len(strings.TrimLeft(text[behind:], " \t")) + 1
	if !found || !isLabel(f.Node) {
		return fail(right, forwardExample, "%q is no node and port", right)
	}
	if f.NodePort, last, err = parsePorts(nodePorts); err != nil {
		return fail(":"+nodePorts, "", "%v", err)
	}
	count := int(last-f.NodePort) + 1
	if f.Port == 0 && f.Count == 1 {
		f.Count = count
	}
	if count != f.Count {
		return fail(right, "give both the same number of ports", "%s to %s on the workstation, %s to %s on the node", quantity(f.Count, "port"), left, quantity(count, "port"), right)
	}
	return f, nodeColumn, nil
}

func quantity(n int, of string) string {
	if n == 1 {
		return "1 " + of
	}
	return strconv.Itoa(n) + " " + of + "s"
}

func forwardEnd(left, right, protocol string) string {
	left, _, _ = strings.Cut(left, "/")
	return left + " -> " + right + "/" + cmp.Or(protocol, "udp")
}

// parsePorts reads "80" or "30000-30019".
func parsePorts(text string) (first, last uint16, err error) {
	low, high, isRange := strings.Cut(text, "-")
	if first, err = parsePort(low); err != nil || !isRange {
		return first, first, err
	}
	if last, err = parsePort(high); err == nil && last < first {
		err = fmt.Errorf("the range %s ends before it begins", text)
	}
	return first, last, err
}

func parsePort(text string) (uint16, error) {
	text = strings.TrimSpace(text)
	port, err := strconv.ParseUint(text, 10, 16)
	if err != nil || port == 0 {
		return 0, fmt.Errorf("%q is no port; ports go from 1 to 65535", text)
	}
	return uint16(port), nil
}

// String gives the forward as it stands in a lab file.
func (f Forward) String() string {
	port := func(first uint16) string {
		if f.Count == 1 {
			return strconv.Itoa(int(first))
		}
		return fmt.Sprintf("%d-%d", first, int(first)+f.Count-1)
	}
	left, right := "auto", f.Node+":"+port(f.NodePort)
	if f.Port != 0 {
		left = port(f.Port)
	}
	if f.Bind != netip.AddrFrom4([4]byte{127, 0, 0, 1}) {
		left = strings.TrimSuffix(netip.AddrPortFrom(f.Bind, 1).String(), "1") + left
	}
	if f.Protocol == UDP {
		right += "/udp"
	}
	return left + " -> " + right
}
