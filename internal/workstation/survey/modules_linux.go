package survey

import (
	"bufio"
	"bytes"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"

	"golang.org/x/sys/unix"
)

// modules lists what is loaded (proc(5)) and what is built in (the list of
// kmod, modprobe(8)); nil where neither can be read. Names are written with
// underscores.
func modules() []string {
	var name unix.Utsname
	_ = unix.Uname(&name)
	loaded, err := os.ReadFile("/proc/modules")
	built, errBuilt := os.ReadFile(filepath.Join("/lib/modules", unix.ByteSliceToString(name.Release[:]), "modules.builtin"))
	if err != nil && errBuilt != nil {
		return nil
	}
	return modulesOf(loaded, built)
}

func modulesOf(loaded, built []byte) []string {
	all := []string{}
	for lines := bufio.NewScanner(bytes.NewReader(loaded)); lines.Scan(); {
		if words := strings.Fields(lines.Text()); len(words) > 0 {
			all = append(all, words[0])
		}
	}
	for lines := bufio.NewScanner(bytes.NewReader(built)); lines.Scan(); {
		if name, _, is := strings.Cut(path.Base(lines.Text()), ".ko"); is {
			all = append(all, strings.ReplaceAll(name, "-", "_"))
		}
	}
	slices.Sort(all)
	return slices.Compact(all)
}
