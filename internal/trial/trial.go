// Package trial finds out what a workstation can do by doing it, in throwaway
// namespaces and with throwaway processes, and remembers the answer until the
// kernel, the tool or the boot is another one. Nothing that is tried stays.
package trial

import (
	"context"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"golang.org/x/sys/unix"

	"kettlehole/internal/home"
	"kettlehole/internal/substrate/container"
	"kettlehole/internal/workstation"
)

// remembered is the file with what was found out.
type remembered struct {
	Key    string              `json:"key"`
	Trials []workstation.Trial `json:"trials"`
}

// All gives what was tried, from memory where that holds. again tries anew.
func All(ctx context.Context, state home.Home, again bool) ([]workstation.Trial, error) {
	file := filepath.Join(string(state), "tried.json")
	now := key()
	var before remembered
	if text, err := os.ReadFile(file); err == nil && json.Unmarshal(text, &before) == nil && before.Key == now && !again {
		return before.Trials, nil
	}
	if err := state.Make(); err != nil {
		return nil, err
	}
	folder, err := os.MkdirTemp(string(state), "trial-")
	if err != nil {
		return nil, fmt.Errorf("trying what the workstation can do: %w", err)
	}
	defer os.RemoveAll(folder)
	all := kernel(folder)
	all = append(all, user(), runtime(ctx, folder))
	all = append(all, machines(ctx, folder, "/boot")...)
	text, err := json.MarshalIndent(remembered{now, all}, "", "  ")
	if err != nil {
		return nil, err
	}
	half := file + ".new"
	if err := os.WriteFile(half, text, 0o600); err != nil {
		return nil, fmt.Errorf("remembering what was tried: %w", err)
	}
	return all, os.Rename(half, file)
}

// key changes whenever an answer may.
func key() string {
	h := sha256.New()
	boot, _ := os.ReadFile("/proc/sys/kernel/random/boot_id") // without one, every answer holds until the kernel changes
	var name unix.Utsname
	_ = unix.Uname(&name)
	fmt.Fprintln(h, "3", string(boot), unix.ByteSliceToString(name.Release[:]), os.Geteuid())
	for _, tool := range []string{container.FindRuntime(), findQEMU(), findKernel("/boot")} {
		var info unix.Stat_t
		if tool != "" && unix.Stat(tool, &info) == nil {
			fmt.Fprintln(h, tool, info.Size, info.Mtim)
		}
	}
	return fmt.Sprintf("%x", h.Sum(nil))
}

// tried makes a trial of what came of it.
func tried(name string, err error) workstation.Trial {
	t := workstation.Trial{Name: name, Tried: true, Works: err == nil}
	if err != nil {
		t.Why = strings.TrimSpace(err.Error())
	}
	return t
}
