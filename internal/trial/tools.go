package trial

import (
	"context"
	"os"
	"os/exec"
	"strings"
	"time"

	"kettlehole/internal/substrate/container"
	"kettlehole/internal/workstation"
)

// versionLimit is how long a tool may take to tell its version.
const versionLimit = 5 * time.Second

// version is the first line of what a tool says of itself.
func version(ctx context.Context, path string) string {
	ctx, cancel := context.WithTimeout(ctx, versionLimit)
	defer cancel()
	out, _ := exec.CommandContext(ctx, path, "--version").Output() // one that says nothing has none
	line, _, _ := strings.Cut(string(out), "\n")
	return strings.TrimSpace(line)
}

// runtime lets the OCI runtime start a container and end it.
func runtime(ctx context.Context, folder string) workstation.Trial {
	path := container.FindRuntime()
	if path == "" {
		return workstation.Trial{Name: workstation.TryRuntime, Tried: true, Why: "none is installed"}
	}
	t := tried(workstation.TryRuntime, container.TryRuntime(ctx, path, folder))
	t.Path, t.Version = path, version(ctx, path)
	return t
}

func findQEMU() string {
	path, err := exec.LookPath("qemu-system-x86_64")
	if err != nil {
		return ""
	}
	return path
}

// machines tells what there is for virtual machines. None of it is tried,
// since nothing uses it yet; a device that is there proves nothing.
func machines() []workstation.Trial {
	qemu := workstation.Trial{Name: workstation.TryQEMU, Why: "none is installed"}
	if path := findQEMU(); path != "" {
		qemu = workstation.Trial{Name: workstation.TryQEMU, Path: path, Version: version(context.Background(), path), Why: "found, and not tried"}
	}
	kvm := workstation.Trial{Name: workstation.TryKVM, Why: "there is no /dev/kvm"}
	if _, err := os.Stat("/dev/kvm"); err == nil {
		kvm = workstation.Trial{Name: workstation.TryKVM, Path: "/dev/kvm", Why: "found, and not tried"}
	}
	return []workstation.Trial{qemu, kvm}
}
