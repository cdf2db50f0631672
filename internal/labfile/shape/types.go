package shape

// File is a whole lab file.
type File struct {
	Lab      Label           `json:"lab" jsonschema:"required" jsonschema_description:"the lab's name: small letters, digits and dashes; part of host names"`
	About    Text            `json:"about,omitempty" jsonschema_description:"a sentence for people"`
	Inputs   Named[Input]    `json:"inputs,omitempty" jsonschema_description:"what a person may change for one run; used as ${name}"`
	Programs Path            `json:"programs,omitempty" jsonschema_description:"a folder beside the file; its executables are on every node's PATH, in /opt/lab/bin"`
	Modules  Names           `json:"modules,omitempty" jsonschema_description:"kernel modules that the lab's programs need, such as br_netfilter; the workstation's kernel is everybody's, so none is ever loaded, and preflight tells which are missing"`
	Networks Named[Network]  `json:"networks,omitempty" jsonschema_description:"the lab's networks" without:"one called lab, with an automatic subnet"`
	Reserve  Named[Range]    `json:"reserve,omitempty" jsonschema_description:"ranges used inside the cluster, such as 10.200.0.0/16; they may overlap nothing else, and scripts see them as RESERVE_NAME"`
	Images   Named[Image]    `json:"images,omitempty" jsonschema_description:"what disks may start as, beside the image workstation"`
	Groups   Named[Group]    `json:"groups" jsonschema:"required" jsonschema_description:"nodes that are alike, by the name of their group"`
	Fronts   Named[Front]    `json:"fronts,omitempty" jsonschema_description:"addresses that spread connections over the healthy nodes of a group"`
	Forwards Named[Forward]  `json:"forwards,omitempty" jsonschema_description:"ports of the workstation that lead to nodes"`
	Steps    Named[Step]     `json:"steps,omitempty" jsonschema_description:"scripts that prepare nodes, in the order in which each node runs them"`
	Retrieve Named[Retrieve] `json:"retrieve,omitempty" jsonschema_description:"files wanted on the workstation after a run, by the name they get there"`
	Checks   Named[Check]    `json:"checks,omitempty" jsonschema_description:"proofs that the lab works, by a sentence that says what holds"`
	Drills   Named[Drill]    `json:"drills,omitempty" jsonschema_description:"planned faults, by a sentence that says what happens"`
}

// Input is a value that a person may change for one run. Its kind is that of
// its default: a number, a text, or true or false.
type Input struct {
	Default Value  `json:"default" jsonschema:"required" jsonschema_description:"the value that holds unless a person gives another; its kind, a number, a text or true and false, is the input's kind"`
	Min     Number `json:"min,omitempty" jsonschema_description:"the least number"`
	Max     Number `json:"max,omitempty" jsonschema_description:"the greatest number"`
	OneOf   Values `json:"one of,omitempty" jsonschema_description:"the only values that there may be"`
	About   Text   `json:"about,omitempty" jsonschema_description:"what it changes, for people"`
}

// Network is a segment of the lab.
type Network struct {
	Subnet  Subnet       `json:"subnet,omitempty" jsonschema_description:"its range, such as 10.61.0.0/24, from /8 to /30, or fd61::/64; or auto: one of IPv4 that collides with nothing, the same each time; or two, one of IPv4 and one of IPv6: [auto, fd61::/64]" without:"auto"`
	Reserve Named[Hosts] `json:"reserve,omitempty" jsonschema_description:"addresses that no node gets: .200-.219 or .5; scripts see them as RESERVE_NAME"`
	Egress  Bool         `json:"egress,omitempty" jsonschema_description:"whether nodes may call out through the workstation; its first address, .1, is then the way out" without:"false"`
}

// Image is what a node's disk starts as: one of the kinds.
type Image struct {
	OCI      Text  `json:"oci,omitempty" jsonschema_description:"an OCI image by its reference, with a tag or better a digest"`
	Packages Names `json:"packages,omitempty" jsonschema_description:"a root made from these packages of a package archive"`
	Date     Text  `json:"date,omitempty" jsonschema_description:"the archive's date, such as 20260901, which pins every version"`
	Disk     Path  `json:"disk,omitempty" jsonschema_description:"a disk of a virtual machine: a file beside the lab file"`
}

// Group is a number of nodes that are alike.
type Group struct {
	Count     Count          `json:"count,omitempty" jsonschema_description:"how many nodes; they are called group-1, group-2 and so on" without:"1"`
	Substrate Substrate      `json:"substrate,omitempty" jsonschema_description:"what they are laid on: container or vm" without:"container"`
	Image     Text           `json:"image,omitempty" jsonschema_description:"what their disks start as: workstation, or a name under images" without:"workstation"`
	CPU       Cores          `json:"cpu,omitempty" jsonschema_description:"cores for each, may be 0.5" without:"0.5"`
	Memory    Size           `json:"memory,omitempty" jsonschema_description:"memory for each, with K, M or G, binary" without:"128M"`
	Disk      Size           `json:"disk,omitempty" jsonschema_description:"disk for each, with K, M or G, binary" without:"1G"`
	Networks  Taps           `json:"networks,omitempty" jsonschema_description:"{valley: .11}: the first node gets .11, the next .12; or [valley] for places chosen for you; the first network named is the node's identity" without:"the only network"`
	Quorum    Bool           `json:"quorum,omitempty" jsonschema_description:"whether its nodes are voting members, more than half of which must live" without:"false"`
	Services  Named[Service] `json:"services,omitempty" jsonschema_description:"programs that each node keeps running"`
}

// Service is a program that a node keeps running.
type Service struct {
	Run Script `json:"run" jsonschema:"required" jsonschema_description:"a command line for /bin/sh; started again when it ends, after pauses that grow to 10 seconds"`
}

// Front is one address before a group.
type Front struct {
	Address Text    `json:"address" jsonschema:"required" jsonschema_description:"a network and a place on it: valley.5"`
	Port    Port    `json:"port" jsonschema:"required" jsonschema_description:"the port that it answers on"`
	To      Text    `json:"to" jsonschema:"required" jsonschema_description:"a group and its port: council:7000"`
	Healthy Healthy `json:"healthy,omitempty" jsonschema_description:"what a node must answer to get connections" without:"the port that connections go to"`
}

// Healthy is what a node must answer.
type Healthy struct {
	Port Port `json:"port,omitempty" jsonschema_description:"this port accepts connections"`
	HTTP Text `json:"http,omitempty" jsonschema_description:"a request for this path, on the port, is answered with a status from 200 to 399"`
}

// Step prepares nodes: it starts services, runs a script, waits.
type Step struct {
	On     Selection   `json:"on" jsonschema:"required" jsonschema_description:"which nodes: all, a group, a node, council-2.., council-2..3, several joined by commas, all except gate"`
	After  Names       `json:"after,omitempty" jsonschema_description:"steps that must be done on all their nodes before"`
	Takes  Names       `json:"takes,omitempty" jsonschema_description:"values of other steps, seen as variables of their names"`
	Gives  Gives       `json:"gives,omitempty" jsonschema_description:"values for other steps: [name], {name: text} or {name: secret}; a step that gives runs on one node"`
	Put    Named[Path] `json:"put,omitempty" jsonschema_description:"files beside the lab file and where they go, {desk.conf.tmpl: /etc/desk.conf}, before the script; one that ends in .tmpl is a Go text/template over the facts of /run/kettlehole/lab.json"`
	Start  Names       `json:"start,omitempty" jsonschema_description:"services to start, before the script"`
	Run    Script      `json:"run,omitempty" jsonschema_description:"the script itself"`
	Script Path        `json:"script,omitempty" jsonschema_description:"the script as a file beside the lab file"`
	Env    Named[Text] `json:"env,omitempty" jsonschema_description:"more variables for the script"`
	Shared Bool        `json:"shared,omitempty" jsonschema_description:"whether its result depends on nothing of the node, so that it is done once and kept" without:"false"`
	AtOnce AtOnce      `json:"at-once,omitempty" jsonschema_description:"on how many nodes at the same time, or all" without:"all"`
	Retry  Retry       `json:"retry,omitempty" jsonschema_description:"what happens when the script fails" without:"no retry"`
	Within Duration    `json:"within,omitempty" jsonschema_description:"how long the script may take, such as 30s or 5m" without:"10m"`
	Wait   Wait        `json:"wait,omitempty" jsonschema_description:"what ends the step"`
}

// Retry says how a failed script is begun again.
type Retry struct {
	Times Times    `json:"times" jsonschema:"required" jsonschema_description:"how often at most, after the first"`
	Pause Duration `json:"pause,omitempty" jsonschema_description:"how long to pause before" without:"1s"`
}

// Wait is the condition that ends a step: one of port, file, run, service,
// http, name.
type Wait struct {
	Port    Port     `json:"port,omitempty" jsonschema_description:"the node accepts connections on this port"`
	File    Text     `json:"file,omitempty" jsonschema_description:"this path exists on the node"`
	Run     Script   `json:"run,omitempty" jsonschema_description:"this command exits 0 on the node"`
	Service Text     `json:"service,omitempty" jsonschema_description:"this service of the node runs, and has for a second"`
	HTTP    Text     `json:"http,omitempty" jsonschema_description:"this address, asked from the node, answers with a status from 200 to 399"`
	Name    Text     `json:"name,omitempty" jsonschema_description:"this name has an address, asked on the node"`
	Within  Duration `json:"within,omitempty" jsonschema_description:"how long to wait before the step fails" without:"1m"`
}

// Retrieve is a file wanted on the workstation.
type Retrieve struct {
	From    Text        `json:"from" jsonschema:"required" jsonschema_description:"a node and a path: council-1:/var/lib/desk/admin.json"`
	Replace Named[Text] `json:"replace,omitempty" jsonschema_description:"texts in it and what stands there instead; {forward.door} is the address of the forward door"`
}

// Check is an expectation: one of reach, run, http, port.
type Check struct {
	From   Text      `json:"from,omitempty" jsonschema_description:"a node, or workstation, from which it is looked at" without:"workstation"`
	Reach  Selection `json:"reach,omitempty" jsonschema_description:"every one of these nodes reaches every other"`
	Over   Text      `json:"over,omitempty" jsonschema_description:"the network over which they reach" without:"the only one"`
	Run    Script    `json:"run,omitempty" jsonschema_description:"this command exits 0"`
	Says   Text      `json:"says,omitempty" jsonschema_description:"what the command or the answer must contain"`
	HTTP   Text      `json:"http,omitempty" jsonschema_description:"this address answers"`
	Status Status    `json:"status,omitempty" jsonschema_description:"the status of the answer" without:"200"`
	Port   Text      `json:"port,omitempty" jsonschema_description:"a node's port that accepts connections: gate-1:80"`
	Within Duration  `json:"within,omitempty" jsonschema_description:"how long it may take" without:"10s"`
}

// Drill is a planned fault: one of kill, pause, cut, slow, lossy.
type Drill struct {
	Kill   Selection `json:"kill,omitempty" jsonschema_description:"these nodes die, and are started again at the end"`
	Pause  Selection `json:"pause,omitempty" jsonschema_description:"these nodes stand still"`
	Cut    Selection `json:"cut,omitempty" jsonschema_description:"these nodes are cut off"`
	Slow   Selection `json:"slow,omitempty" jsonschema_description:"what these nodes send comes late"`
	Lossy  Selection `json:"lossy,omitempty" jsonschema_description:"of what these nodes send a share is lost"`
	From   Selection `json:"from,omitempty" jsonschema_description:"the nodes on the other side of a cut, slow or lossy link" without:"all others"`
	Over   Text      `json:"over,omitempty" jsonschema_description:"the network of the link" without:"every network"`
	By     Duration  `json:"by,omitempty" jsonschema_description:"how late, for slow" without:"100ms"`
	Share  Number    `json:"share,omitempty" jsonschema_description:"how much is lost, for lossy, in percent" without:"20"`
	For    Duration  `json:"for,omitempty" jsonschema_description:"how long the fault lasts before it is healed" without:"10s"`
	Holds  Names     `json:"holds,omitempty" jsonschema_description:"checks that must hold throughout"`
	Breaks Names     `json:"breaks,omitempty" jsonschema_description:"checks that must break, and hold again after"`
	Outage Duration  `json:"outage,omitempty" jsonschema_description:"how long the checks that must hold may be broken" without:"0s"`
}
