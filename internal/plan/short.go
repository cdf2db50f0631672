package plan

import (
	"fmt"
	"strconv"
	"strings"
)

// Short writes the names of many nodes short: "council-1..3, gate-1".
func Short(nodes []string) string {
	var words []string
	for i := 0; i < len(nodes); {
		base, first := splitName(nodes[i])
		last, next := first, i+1
		for next < len(nodes) && first > 0 {
			b, n := splitName(nodes[next])
			if b != base || n != last+1 {
				break
			}
			last, next = n, next+1
		}
		switch {
		case next-i > 1:
			words = append(words, fmt.Sprintf("%s-%d..%d", base, first, last))
		default:
			words = append(words, nodes[i])
		}
		i = next
	}
	return strings.Join(words, ", ")
}

func splitName(node string) (base string, n int) {
	at := strings.LastIndexByte(node, '-')
	if at < 0 {
		return node, 0
	}
	n, err := strconv.Atoi(node[at+1:])
	if err != nil {
		return node, 0
	}
	return node[:at], n
}
