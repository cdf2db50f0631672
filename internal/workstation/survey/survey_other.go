//go:build !linux

package survey

import (
	"errors"
	"runtime"

	"kettlehole/internal/workstation"
)

// errNotLinux says why nothing is known.
var errNotLinux = errors.New("labs live on Linux alone; on this machine they can be planned and rehearsed")

// Read knows little of a machine on which no lab can live: it has room for
// every plan, and is no place for any.
func Read(string) (workstation.Facts, error) {
	f := workstation.Facts{Cores: runtime.NumCPU(), MemoryTotal: 1 << 50, MemoryAvailable: 1 << 50, DiskFree: 1 << 50}
	f.System = workstation.System{Distribution: runtime.GOOS, Machine: runtime.GOARCH}
	return f, nil
}

// ReadPulse is not known here.
func ReadPulse(string) (workstation.Pulse, error) { return workstation.Pulse{}, errNotLinux }

// ReadPressure is not known here.
func ReadPressure() workstation.Pressure { return workstation.Pressure{} }

// GroupMemory is not known here.
func GroupMemory(string) int64 { return 0 }
