package workstation

import (
	"fmt"

	"github.com/prometheus/procfs"
)

// Pulse is how busy the workstation is at one moment.
type Pulse struct {
	Busy, Whole float64 // seconds of processor time since boot, of all cores
	MemoryUsed  int64   // bytes
	MemoryTotal int64   // bytes
	DiskFree    int64   // bytes, where labs live
}

// ReadPulse reads the pulse. folder is where labs live.
func ReadPulse(folder string) (Pulse, error) {
	var p Pulse
	fs, err := procfs.NewFS("/proc")
	if err != nil {
		return p, fmt.Errorf("reading the workstation's pulse: %w", err)
	}
	stat, err := fs.Stat()
	if err != nil {
		return p, fmt.Errorf("reading the workstation's processors: %w", err)
	}
	c := stat.CPUTotal
	idle := c.Idle + c.Iowait
	p.Whole = c.User + c.Nice + c.System + c.IRQ + c.SoftIRQ + c.Steal + idle
	p.Busy = p.Whole - idle
	memory, err := fs.Meminfo()
	if err != nil || memory.MemTotal == nil || memory.MemAvailable == nil {
		return p, fmt.Errorf("reading the workstation's memory: %w", err)
	}
	p.MemoryTotal = int64(*memory.MemTotal) << 10
	p.MemoryUsed = p.MemoryTotal - int64(*memory.MemAvailable)<<10
	p.DiskFree, err = diskFree(folder)
	return p, err
}

// Share gives how much of the processors was in use since an earlier pulse,
// from 0 to 1.
func (p Pulse) Share(earlier Pulse) float64 {
	if p.Whole <= earlier.Whole {
		return 0
	}
	return min(max((p.Busy-earlier.Busy)/(p.Whole-earlier.Whole), 0), 1)
}
