package survey_test

import (
	"encoding/json"
	"net"
	"net/netip"
	"os"
	"runtime"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kettlehole/internal/workstation"
	"kettlehole/internal/workstation/survey"
)

// What is read is what this machine is, and survives being written down.
func TestRead(t *testing.T) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer listener.Close()
	packets, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	defer packets.Close()
	f, err := survey.Read(t.TempDir() + "/not/there/yet")
	require.NoError(t, err)
	assert.Equal(t, runtime.NumCPU(), f.Cores)
	assert.Positive(t, f.MemoryAvailable)
	assert.LessOrEqual(t, f.MemoryAvailable, f.MemoryTotal)
	assert.Positive(t, f.DiskFree)
	assert.NotEmpty(t, f.System.Kernel)
	assert.NotEmpty(t, f.System.Distribution)
	assert.Equal(t, os.Geteuid() == 0, f.Root)
	assert.Contains(t, []string{"1", "2", "mixed"}, f.Cgroup.Version)
	assert.NotEmpty(t, f.Cgroup.Controllers)
	assert.Positive(t, f.Limits.OpenFiles)
	assert.Positive(t, f.Limits.Processes)
	assert.True(t, slices.ContainsFunc(f.Interfaces, func(i workstation.Interface) bool {
		return i.Name == "lo" && slices.Contains(i.Addresses, netip.MustParsePrefix("127.0.0.1/8"))
	}))
	mine := netip.MustParseAddrPort(listener.Addr().String())
	at := slices.IndexFunc(f.Listening, func(l workstation.Listener) bool { return l.Addr == mine })
	require.GreaterOrEqual(t, at, 0)
	assert.Equal(t, os.Getpid(), f.Listening[at].PID)
	assert.NotEmpty(t, f.Listening[at].User)
	assert.True(t, slices.ContainsFunc(f.Listening, func(l workstation.Listener) bool {
		return l.UDP && l.Addr.String() == packets.LocalAddr().String() && l.PID == os.Getpid()
	}), "UDP ports are told too")

	text, err := json.Marshal(f)
	require.NoError(t, err)
	var again workstation.Facts
	require.NoError(t, json.Unmarshal(text, &again))
	f.Pressure.Stalled = workstation.Stalled{} // of the moment alone
	assert.Equal(t, f, again)
}

func BenchmarkRead(b *testing.B) {
	for b.Loop() {
		if _, err := survey.Read("/"); err != nil {
			b.Fatal(err)
		}
	}
}

func TestPressure(t *testing.T) {
	before := survey.ReadPressure()
	if !before.Known {
		t.Log("this kernel does not tell of pressure")
		assert.Empty(t, before.Holds())
		return
	}
	after := before
	after.Stalled.CPU += 900 * time.Millisecond
	assert.InDelta(t, 90, after.Over(before, time.Second).CPU, 0.01)
	assert.Equal(t, "the processors are busy", after.Over(before, time.Second).Holds())
	after.Stalled.IO += 700 * time.Millisecond
	assert.Equal(t, "the disk is busy", after.Over(before, time.Second).Holds())
	after.Stalled.Memory += 200 * time.Millisecond
	assert.Equal(t, "memory is short", after.Over(before, time.Second).Holds())
	assert.Empty(t, after.Over(before, 10*time.Second).Holds())
	assert.Empty(t, after.Over(workstation.Pressure{}, time.Second).Holds())
}
