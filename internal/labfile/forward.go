package labfile

import (
	"fmt"
	"net/netip"
	"regexp"
	"strconv"
	"strings"
)

var forwardForm = regexp.MustCompile(`^\s*(?:(\S+):)?(auto|[0-9]+)\s*->\s*([a-z][a-z0-9-]*):([0-9]+)\s*$`)

// ParseForward reads "8080 -> gate-1:80", "auto -> gate-1:80" or
// "127.0.0.2:8080 -> gate-1:80".
func ParseForward(text string) (Forward, error) {
	f := Forward{Bind: netip.AddrFrom4([4]byte{127, 0, 0, 1})}
	m := forwardForm.FindStringSubmatch(text)
	if m == nil {
		return f, fmt.Errorf("%q is no forward; write a workstation port, an arrow, a node and its port, such as 8080 -> gate-1:80, or auto -> gate-1:80", text)
	}
	if m[1] != "" {
		bind, err := netip.ParseAddr(strings.Trim(m[1], "[]"))
		if err != nil {
			return f, fmt.Errorf("%q is no address of the workstation", m[1])
		}
		f.Bind = bind
	}
	var err error
	if m[2] != "auto" {
		if f.Port, err = parsePort(m[2]); err != nil {
			return f, err
		}
	}
	f.Node = m[3]
	f.NodePort, err = parsePort(m[4])
	return f, err
}

func parsePort(text string) (uint16, error) {
	port, err := strconv.ParseUint(text, 10, 16)
	if err != nil || port == 0 {
		return 0, fmt.Errorf("%q is no port; ports go from 1 to 65535", text)
	}
	return uint16(port), nil
}
