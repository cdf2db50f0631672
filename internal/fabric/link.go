package fabric

import "net/netip"

// Link is one interface of a node.
type Link struct {
	Network  string       `json:"network"`           // the network it hangs on
	Name     string       `json:"name"`              // of the interface inside the node
	Address  netip.Prefix `json:"address"`           // with the subnet's length
	Address6 netip.Prefix `json:"address6,omitzero"` // an IPv6 one beside it
	MAC      string       `json:"mac"`
}
