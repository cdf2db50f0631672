package measure_test

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/opencontainers/runtime-spec/specs-go"
	"github.com/stretchr/testify/require"
)

// yardstick is the OCI runtime alone: n containers with the runtime's own plain
// spec, no network of theirs, no system call filter, started six at once. What
// a node costs beyond that is ours.
type yardstick struct {
	t      *testing.T
	bundle string
	runs   int
}

func newYardstick(t *testing.T) *yardstick {
	y := &yardstick{t: t, bundle: t.TempDir()}
	root := filepath.Join(y.bundle, "rootfs")
	require.NoError(t, os.MkdirAll(filepath.Join(root, "usr"), 0o755))
	for _, name := range []string{"bin", "lib", "lib64"} {
		require.NoError(t, os.Symlink("usr/"+name, filepath.Join(root, name)))
	}
	cmd := exec.Command("runc", "spec")
	cmd.Dir = y.bundle
	require.NoError(t, cmd.Run())
	path := filepath.Join(y.bundle, "config.json")
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	var spec specs.Spec
	require.NoError(t, json.Unmarshal(text, &spec))
	spec.Process.Terminal, spec.Process.Args, spec.Process.Rlimits = false, []string{"/bin/sleep", "60"}, nil
	spec.Mounts = append(spec.Mounts, specs.Mount{Destination: "/usr", Type: "bind", Source: "/usr", Options: []string{"rbind", "ro"}})
	text, err = json.Marshal(spec)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(path, text, 0o600))
	return y
}

func (y *yardstick) up(n int) time.Duration {
	y.runs++
	state := filepath.Join(y.bundle, "state")
	call := func(args ...string) error {
		ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
		defer cancel()
		return exec.CommandContext(ctx, "runc", append([]string{"--root", state}, args...)...).Run()
	}
	id := func(i int) string { return fmt.Sprintf("yardstick-%d-%d-%d", os.Getpid(), y.runs, i) }
	slots := make(chan struct{}, 6)
	errs := make([]error, n)
	var all sync.WaitGroup
	began := time.Now()
	for i := range n {
		all.Go(func() {
			slots <- struct{}{}
			defer func() { <-slots }()
			errs[i] = call("run", "--detach", "--bundle", y.bundle, id(i))
		})
	}
	all.Wait()
	took := time.Since(began)
	for i, err := range errs {
		require.NoError(y.t, err)
		require.NoError(y.t, call("delete", "--force", id(i)))
	}
	return took
}
