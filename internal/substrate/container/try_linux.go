package container

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"github.com/opencontainers/runtime-spec/specs-go"

	"kettlehole/internal/home"
)

// tryLimit is how long a runtime may take to run a program that ends at once.
const tryLimit = 20 * time.Second

// TryRuntime lets an OCI runtime run a container to its end, in a control group
// of its own with limits, and takes all away again. folder is an empty place
// for its files.
func TryRuntime(ctx context.Context, path, folder string) error {
	ctx, cancel := context.WithTimeout(ctx, tryLimit)
	defer cancel()
	bundle := filepath.Join(folder, "bundle")
	root := filepath.Join(bundle, "root")
	for _, name := range []string{"usr", "proc"} {
		if err := os.MkdirAll(filepath.Join(root, name), 0o755); err != nil {
			return err
		}
	}
	for _, name := range []string{"bin", "lib", "lib64", "sbin"} {
		if err := os.Symlink("usr/"+name, filepath.Join(root, name)); err != nil {
			return err
		}
	}
	group := home.Group(fmt.Sprintf("trial-%d", os.Getpid()))
	memory, quota, period := int64(64<<20), int64(cpuPeriod), uint64(cpuPeriod)
	filter, err := commonFilter()
	if err != nil {
		return err
	}
	spec := specs.Spec{
		Version: "1.0.2",
		Root:    &specs.Root{Path: root, Readonly: true},
		Process: &specs.Process{Args: []string{"/usr/bin/true"}, Cwd: "/"},
		Mounts: []specs.Mount{
			{Destination: "/proc", Type: "proc", Source: "proc"},
			{Destination: "/usr", Type: "bind", Source: "/usr", Options: []string{"rbind", "ro"}},
		},
		Linux: &specs.Linux{
			CgroupsPath: group, Seccomp: filter,
			Namespaces: []specs.LinuxNamespace{{Type: specs.PIDNamespace}, {Type: specs.IPCNamespace}, {Type: specs.UTSNamespace}, {Type: specs.MountNamespace}, {Type: specs.NetworkNamespace}},
			Resources: &specs.LinuxResources{Memory: &specs.LinuxMemory{Limit: &memory}, CPU: &specs.LinuxCPU{Quota: &quota, Period: &period},
				Pids: &specs.LinuxPids{Limit: 64}},
		},
	}
	text, err := json.Marshal(spec)
	if err == nil {
		err = os.WriteFile(filepath.Join(bundle, "config.json"), text, 0o600)
	}
	if err != nil {
		return err
	}
	state := filepath.Join(folder, "state")
	name := filepath.Base(group)
	out, err := exec.CommandContext(ctx, path, "--root", state, "run", "--bundle", bundle, name).CombinedOutput()
	if err != nil {
		line, _, _ := strings.Cut(strings.TrimSpace(string(out)), "\n")
		err = fmt.Errorf("it cannot run a container: %w: %s", err, line)
		_ = exec.Command(path, "--root", state, "delete", "--force", name).Run() // there may be nothing to delete
	}
	groups, groupErr := NewCgroup(group)
	if groupErr == nil {
		groupErr = groups.Remove(ctx)
	}
	return errors.Join(err, groupErr)
}
