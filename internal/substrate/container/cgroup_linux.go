package container

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/prometheus/procfs"
	"golang.org/x/sys/unix"

	"kettlehole/internal/substrate"
)

// Cgroup is a control group path under which a lab's nodes have theirs, in
// every hierarchy (cgroups(7)): one for each controller in version 1, a single
// one in version 2.
type Cgroup struct {
	path        string            // from the root of each hierarchy
	hierarchies []string          // mount points
	controllers map[string]string // version 1: controller to mount point
}

// NewCgroup gives the group at this path from the root of each hierarchy.
// Nothing is made.
func NewCgroup(path string) (*Cgroup, error) {
	if !strings.HasPrefix(path, "/") {
		return nil, fmt.Errorf("control group %q: its path begins at the root of each hierarchy, with a slash", path)
	}
	mounts, err := procfs.GetMounts()
	if err != nil {
		return nil, fmt.Errorf("finding control groups: %w", err)
	}
	c := &Cgroup{path: path, controllers: map[string]string{}}
	for _, m := range mounts {
		if m.FSType != "cgroup" && m.FSType != "cgroup2" {
			continue
		}
		c.hierarchies = append(c.hierarchies, m.MountPoint)
		for name := range m.SuperOptions {
			if m.FSType == "cgroup" {
				c.controllers[name] = m.MountPoint
			}
		}
	}
	return c, nil
}

// Path is the lab's group, from the root of each hierarchy.
func (c *Cgroup) Path() string { return c.path }

// Node is the group of one node.
func (c *Cgroup) Node(name string) string { return c.path + "/" + name }

// Usage reads what a node uses.
func (c *Cgroup) Usage(node string) (substrate.Usage, error) {
	var u substrate.Usage
	if memory, v1 := c.controllers["memory"]; v1 {
		account := c.controllers["cpuacct"]
		cpu, err := readNumber(filepath.Join(account, c.Node(node), "cpuacct.usage"))
		if err != nil {
			return u, err
		}
		used, err := readNumber(filepath.Join(memory, c.Node(node), "memory.usage_in_bytes"))
		u.CPU, u.Memory = cpu, used
		return u, err
	}
	for _, at := range c.hierarchies {
		stat, err := os.ReadFile(filepath.Join(at, c.Node(node), "cpu.stat"))
		if err != nil {
			continue
		}
		for _, line := range strings.Split(string(stat), "\n") {
			if text, found := strings.CutPrefix(line, "usage_usec "); found {
				micros, _ := strconv.ParseInt(text, 10, 64)
				u.CPU = micros * 1000
			}
		}
		u.Memory, err = readNumber(filepath.Join(at, c.Node(node), "memory.current"))
		return u, err
	}
	return u, fmt.Errorf("reading the usage of %s: %w", node, fs.ErrNotExist)
}

// limit changes the limits of a node that runs: cpu in thousandths of a core,
// memory in bytes.
func (c *Cgroup) limit(node string, cpu, memory int64) error {
	quota := cpu * cpuPeriod / 1000
	files := map[string]string{}
	if _, v1 := c.controllers["memory"]; v1 {
		files[filepath.Join(c.controllers["memory"], c.Node(node), "memory.limit_in_bytes")] = strconv.FormatInt(memory, 10)
		files[filepath.Join(c.controllers["cpu"], c.Node(node), "cpu.cfs_quota_us")] = strconv.FormatInt(quota, 10)
	} else {
		for _, at := range c.hierarchies {
			files[filepath.Join(at, c.Node(node), "memory.max")] = strconv.FormatInt(memory, 10)
			files[filepath.Join(at, c.Node(node), "cpu.max")] = fmt.Sprintf("%d %d", quota, cpuPeriod)
		}
	}
	for file, text := range files {
		if err := os.WriteFile(file, []byte(text), 0); errors.Is(err, unix.EBUSY) {
			return fmt.Errorf("limiting %s: it uses more memory than it is to have now", node)
		} else if err != nil {
			return fmt.Errorf("limiting %s: %w", node, err)
		}
	}
	return nil
}

func readNumber(path string) (int64, error) {
	text, err := os.ReadFile(path)
	if err != nil {
		return 0, err
	}
	return strconv.ParseInt(strings.TrimSpace(string(text)), 10, 64)
}

// Remove takes the lab's groups away in every hierarchy. The processes must
// have been ended; since the kernel may still be at it, Remove tries again for
// a while.
func (c *Cgroup) Remove(ctx context.Context) error {
	for _, at := range c.hierarchies {
		if err := removeGroups(ctx, filepath.Join(at, c.path)); err != nil {
			return err
		}
	}
	return nil
}

func removeGroups(ctx context.Context, root string) error {
	var groups []string
	err := filepath.WalkDir(root, func(path string, entry fs.DirEntry, err error) error {
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		if err == nil && entry.IsDir() {
			groups = append(groups, path)
		}
		return err
	})
	if err != nil {
		return fmt.Errorf("listing control groups: %w", err)
	}
	slices.Reverse(groups) // the inner ones first
	for _, group := range groups {
		for {
			err := unix.Rmdir(group)
			if err == nil || errors.Is(err, unix.ENOENT) {
				break
			}
			if !errors.Is(err, unix.EBUSY) || ctx.Err() != nil {
				return fmt.Errorf("removing control group %q: %w", group, err)
			}
			time.Sleep(2 * time.Millisecond)
		}
	}
	return nil
}
