package fabric

import "net/netip"

// Link is one interface of a node.
type Link struct {
	Network  string       `json:"network"`           // the network it hangs on
	Name     string       `json:"name"`              // of the interface inside the node
	Address  netip.Prefix `json:"address"`           // with the subnet's length
	Address6 netip.Prefix `json:"address6,omitzero"` // an IPv6 one beside it
	MAC      string       `json:"mac"`
	// Gateway is where the node's packets to everywhere else go, and Gateway6 the
	// IPv6 one beside it; of one link at most.
	Gateway  netip.Addr `json:"gateway,omitzero"`
	Gateway6 netip.Addr `json:"gateway6,omitzero"`
}

// Network is a lab network as the kernel is to have it.
type Network struct {
	Name string `json:"name"`
	// Addresses are the lab's own on it, with the subnet's length.
	Addresses []netip.Prefix `json:"addresses,omitempty"`
	Egress    bool           `json:"egress,omitempty"`
}
