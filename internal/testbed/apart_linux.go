package testbed

import (
	"os"
	"os/exec"
	"strings"
	"syscall"
	"testing"

	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"
)

// apartVariable marks the run of a test in namespaces of its own.
const apartVariable = "KETTLEHOLE_TEST_APART"

// Apart runs a test again in network and mount namespaces of its own, where
// nothing is but a loopback and no mount is seen outside, and tells whether this
// is that run. Its environment has the variables that are given, beside those of
// this process.
func Apart(t *testing.T, variables ...string) bool {
	t.Helper()
	Kernel(t)
	if os.Getenv(apartVariable) == "" {
		cmd := exec.Command(os.Args[0], "-test.run=^"+t.Name()+"$", "-test.v")
		cmd.Env = append(append(os.Environ(), variables...), apartVariable+"=yes")
		cmd.SysProcAttr = &syscall.SysProcAttr{Cloneflags: unix.CLONE_NEWNET | unix.CLONE_NEWNS}
		out, err := cmd.CombinedOutput()
		if err != nil || !strings.Contains(string(out), "--- PASS: "+t.Name()) {
			t.Fatalf("in namespaces of its own: %v\n%s", err, out)
		}
		return false
	}
	loopback, err := netlink.LinkByName("lo")
	if err == nil {
		err = netlink.LinkSetUp(loopback)
	}
	if err == nil {
		err = unix.Mount("", "/", "", unix.MS_SLAVE|unix.MS_REC, "")
	}
	if err != nil {
		t.Fatalf("in namespaces of its own: %v", err)
	}
	return true
}
