package labfile

import (
	"net/netip"
	"strconv"
	"strings"
)

// Pos is a place in a lab file. Line and Column count from 1, Column in
// characters; the zero Pos means that no place is known.
type Pos struct {
	Line   int `json:"line"`
	Column int `json:"column"`
}

// Reader gives the content of a file that a lab file names. The path is
// relative to the lab file's own folder, as it stands in the lab file.
type Reader func(path string) ([]byte, error)

// Lab is a lab file that was understood. Everything in it stands in file
// order. A Lab is not changed after [Parse] returns it and may be read by any
// number of goroutines.
type Lab struct {
	Name      string         `json:"name"`
	About     string         `json:"about,omitempty"`
	Inputs    []Input        `json:"inputs,omitempty"`
	Programs  string         `json:"programs,omitempty"` // folder of the lab's own programs, relative to the file; "" for none
	Modules   []Ref          `json:"modules,omitempty"`  // of the workstation's kernel, with underscores
	Networks  []Network      `json:"networks"`
	Reserves  []RangeReserve `json:"reserves,omitempty"` // beside the networks
	Images    []Image        `json:"images,omitempty"`
	Groups    []Group        `json:"groups"`
	Fronts    []Front        `json:"fronts,omitempty"`
	Forwards  []Forward      `json:"forwards,omitempty"`
	Steps     []Step         `json:"steps,omitempty"`
	Retrieves []Retrieve     `json:"retrieves,omitempty"`
	Checks    []Check        `json:"checks,omitempty"`
	Drills    []Drill        `json:"drills,omitempty"`
}

// Network is a layer-2 segment of the lab.
type Network struct {
	Name     string        `json:"name"`
	Subnet   netip.Prefix  `json:"subnet,omitzero"`  // the zero Prefix where the file says 'auto'
	Subnet6  netip.Prefix  `json:"subnet6,omitzero"` // an IPv6 range beside that, which then is an IPv4 one
	Reserves []HostReserve `json:"reserves,omitempty"`
	Egress   bool          `json:"egress,omitempty"` // nodes may call out through the workstation
	Pos      Pos           `json:"-"`
}

// Auto tells whether the planner chooses the network's range.
func (n Network) Auto() bool { return !n.Subnet.IsValid() }

// HostReserve is a run of addresses of a network that no node gets. First and
// Last are host parts of one to four octets; they are the same for one
// address.
type HostReserve struct {
	Name  string `json:"name"`
	First Host   `json:"first"`
	Last  Host   `json:"last"`
	Pos   Pos    `json:"-"`
}

// RangeReserve is a range that is used inside the cluster.
type RangeReserve struct {
	Name  string       `json:"name"`
	Range netip.Prefix `json:"range"`
	Pos   Pos          `json:"-"`
}

// Host is the host part of an address, from one octet (".11") to three.
type Host []byte

// String gives the host part as it stands in a lab file: ".3.11".
func (h Host) String() string {
	var b strings.Builder
	for _, octet := range h {
		b.WriteByte('.')
		b.WriteString(strconv.Itoa(int(octet)))
	}
	return b.String()
}

// MarshalText gives the host part as it stands in a lab file.
func (h Host) MarshalText() ([]byte, error) { return []byte(h.String()), nil }

// UnmarshalText reads a host part.
func (h *Host) UnmarshalText(text []byte) error {
	if len(text) == 0 {
		*h = nil
		return nil
	}
	host, err := parseHost(string(text))
	*h = host
	return err
}

// ImageKind says where an image comes from.
type ImageKind string

// The kinds of image that a file may declare.
const (
	ImageOCI      ImageKind = "oci"
	ImagePackages ImageKind = "packages"
	ImageDisk     ImageKind = "disk"
)

// Image is a named image of the file.
type Image struct {
	Name     string    `json:"name"`
	Kind     ImageKind `json:"kind"`
	OCI      string    `json:"oci,omitempty"`
	Packages []string  `json:"packages,omitempty"`
	Date     string    `json:"date,omitempty"`
	Disk     string    `json:"disk,omitempty"`
	Pos      Pos       `json:"-"`
}

// Substrate is what a node is laid on.
type Substrate string

// The substrates that a file may name.
const (
	Container Substrate = "container"
	VM        Substrate = "vm"
)

// Group is a number of nodes that are alike.
type Group struct {
	Name      string    `json:"name"`
	Count     int       `json:"count"`
	Substrate Substrate `json:"substrate"`
	Image     string    `json:"image"`
	CPU       Cores     `json:"cpu"`
	Memory    Bytes     `json:"memory"`
	Disk      Bytes     `json:"disk"`
	Networks  []Tap     `json:"networks"`
	Quorum    bool      `json:"quorum,omitempty"`
	Services  []Service `json:"services,omitempty"`
	Pos       Pos       `json:"-"`
	CountPos  Pos       `json:"-"` // of the count's value, zero where it is not said
}

// has tells whether a node of this name belongs to the group.
func (g Group) has(node string) bool {
	group, number := splitNode(node)
	return group == g.Name && number >= 1 && number <= g.Count
}

// splitNode takes a node's name apart; the number is 0 where there is none.
func splitNode(node string) (group string, number int) {
	at := strings.LastIndexByte(node, '-')
	if at < 1 || at == len(node)-1 || len(node)-at > 7 || node[at+1] == '0' {
		return "", 0
	}
	for _, digit := range []byte(node[at+1:]) {
		if digit < '0' || digit > '9' {
			return "", 0
		}
		number = 10*number + int(digit-'0')
	}
	return node[:at], number
}

// Tap is a group's place on one network.
type Tap struct {
	Network string `json:"network"`
	// Host is the host part of the first node's address; empty where the
	// planner chooses.
	Host Host `json:"host,omitempty"`
	Pos  Pos  `json:"-"`
}

// Service is a program that a node keeps running.
type Service struct {
	Name string `json:"name"`
	Run  string `json:"run"` // a command line for /bin/sh
	Pos  Pos    `json:"-"`
}

// Front is one address that spreads connections over the healthy nodes of a
// group.
type Front struct {
	Name       string `json:"name"`
	Network    string `json:"network"`
	Host       Host   `json:"host"`
	Port       uint16 `json:"port"`
	Group      string `json:"group"`
	GroupPort  uint16 `json:"groupPort"`
	HealthPort uint16 `json:"healthPort"`
	HealthPath string `json:"healthPath,omitempty"` // of an HTTP request; "" where an open port is enough
	Pos        Pos    `json:"-"`
	AddressPos Pos    `json:"-"`
	ToPos      Pos    `json:"-"`
}

// Ref is a name that refers to something declared elsewhere in the file.
type Ref struct {
	Name string `json:"name"`
	Pos  Pos    `json:"-"`
}

// Retrieve is a file wanted on the workstation after a run.
type Retrieve struct {
	Name    string    `json:"name"` // the file's name on the workstation
	Node    string    `json:"node"`
	Path    string    `json:"path"` // on the node, absolute
	Replace []Replace `json:"replace,omitempty"`
	Pos     Pos       `json:"-"`
	FromPos Pos       `json:"-"`
}

// Replace is a text of a retrieved file and what stands there instead, in
// which {forward.NAME} is the address of a forward.
type Replace struct {
	Text string `json:"text"`
	By   string `json:"by"`
	Pos  Pos    `json:"-"`
}
