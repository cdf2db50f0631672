package workstation_test

import (
	"encoding/json"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kettlehole/internal/workstation"
)

// The facts print as a table, the same after they were written down and read.
func TestText(t *testing.T) {
	f := workstation.Facts{Cores: 2, MemoryTotal: 4 << 30, MemoryAvailable: 3 << 30, DiskFree: 10 << 30, SwapTotal: 1 << 30, SwapFree: 1 << 29,
		System:    workstation.System{Distribution: "Debian", Kernel: "6.1", Machine: "x86_64", Virtual: "a virtual machine"},
		Pressure:  workstation.Pressure{Known: true, CPU: 12.4},
		Listening: []workstation.Listener{{Addr: netip.MustParseAddrPort("127.0.0.1:80"), PID: 7, Process: "server", User: "ada"}, {Addr: netip.MustParseAddrPort("[::]:53"), UDP: true}},
		Labs:      []workstation.Hold{{Lab: "desk", MemoryLimit: 1 << 30, MemoryUsed: 1 << 20, Ports: []string{"127.0.0.1:8080"}}},
		Ephemeral: [2]uint16{32768, 60999}, Root: true,
		Interfaces: []workstation.Interface{{Name: "eth0", Addresses: []netip.Prefix{netip.MustParsePrefix("10.0.0.2/24"), netip.MustParsePrefix("fd00::2/64")}}, {Name: "dummy0"}},
		Routes:     []workstation.Route{{To: netip.MustParsePrefix("10.0.0.0/24"), Interface: "eth0"}}, Resolvers: []netip.Addr{netip.MustParseAddr("10.0.0.1")},
		Cgroup: workstation.Cgroup{Version: "2", Controllers: []string{"cpu", "memory"}, Writable: true}, Limits: workstation.Limits{OpenFiles: 1024, Processes: 32768},
		SubUIDs: []workstation.IDRange{{First: 100000, Count: 65536}}, Modules: []string{"bridge", "veth"},
		Trials: []workstation.Trial{{Name: "overlay", Tried: true, Works: true}, {Name: "QEMU", Tried: true, Works: true, Version: "7", Path: "/usr/bin/qemu"}, {Name: "KVM", Why: "there is none"}, {Name: "netem", Tried: true, Why: "no such file"}}}
	text := f.String()
	for _, want := range []string{
		"machine            Debian, Linux 6.1 on x86_64, in a virtual machine\n", "memory             4 GiB, 3 GiB available\n", "swap               1 GiB, 512 MiB free\n",
		"waiting            cpu 12%, memory 0%, disk 0% of the last 10 s\n", "interface          eth0 10.0.0.2/24, fd00::2/64\n", "interface          dummy0\n",
		"TCP port           127.0.0.1:80 held by server of ada (process 7)\n", "UDP port           [::]:53 held by a process that cannot be seen from here\n", "lab                desk: 1 MiB of 1 GiB used; 127.0.0.1:8080\n",
		"control groups     version 2, writable for this user; cpu memory\n", "subordinate users  65536 from 100000 on\n", "kernel modules     2 loaded or built in\n",
		"overlay            works\n", "QEMU               works: 7, /usr/bin/qemu\n", "KVM                there is none\n", "netem              does not work: no such file\n",
	} {
		assert.Contains(t, text, want)
	}
	written, err := json.Marshal(f)
	require.NoError(t, err)
	var read workstation.Facts
	require.NoError(t, json.Unmarshal(written, &read))
	assert.Equal(t, text, read.String())
}
