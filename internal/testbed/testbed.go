// Package testbed is what tests of the kernel's parts stand on: the programs,
// built once, and the rule of when such a test may be skipped.
package testbed

import (
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"testing"
)

// Kernel lets a test go on only where it may make namespaces and containers.
// Elsewhere the test is skipped; where CI is set, it fails instead, so that no
// test is ever lost in silence.
func Kernel(t testing.TB) {
	t.Helper()
	missing := ""
	if os.Geteuid() != 0 {
		missing = "needs root"
	} else if _, err := exec.LookPath("runc"); err != nil {
		missing = "needs runc"
	}
	switch {
	case missing == "":
	case os.Getenv("CI") != "":
		t.Fatalf("this test may not be skipped in CI, but it %s", missing)
	default:
		t.Skipf("this test %s", missing)
	}
}

// Tool gives the path of a program that a test drives, under the same rule.
func Tool(t testing.TB, name string) string {
	t.Helper()
	path, err := exec.LookPath(name)
	switch {
	case err == nil:
	case os.Getenv("CI") != "":
		t.Fatalf("this test may not be skipped in CI, but %s is missing", name)
	default:
		t.Skipf("this test needs %s", name)
	}
	return path
}

// Root is the project's folder.
func Root() string {
	folder, err := os.Getwd()
	if err != nil {
		panic(err)
	}
	for ; folder != "/"; folder = filepath.Dir(folder) {
		if _, err := os.Stat(filepath.Join(folder, "go.mod")); err == nil {
			return folder
		}
	}
	panic("testbed: not in the project's folder")
}

var built = sync.OnceValues(func() (string, error) {
	if folder := os.Getenv("KETTLEHOLE_TEST_BIN"); folder != "" {
		return folder, nil
	}
	cmd := exec.Command("make", "--no-print-directory", "build")
	cmd.Dir = Root()
	out, err := cmd.CombinedOutput()
	if err != nil {
		os.Stderr.Write(out)
	}
	return filepath.Join(Root(), "bin"), err
})

// Programs gives the folder with the built programs.
func Programs(t testing.TB) string {
	t.Helper()
	folder, err := built()
	if err != nil {
		t.Fatalf("building the programs: %v", err)
	}
	return folder
}

// Demo is the demo's lab file.
func Demo() string { return filepath.Join(Root(), "examples", "avalanche-desk", "avalanche.lab.yaml") }
