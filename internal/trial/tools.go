package trial

import (
	"context"
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
