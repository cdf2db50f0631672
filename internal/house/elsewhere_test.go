package house_test

import (
	"os"
	"os/exec"
	"testing"

	"github.com/stretchr/testify/assert"

	"kettlehole/internal/testbed"
)

// Plans, rehearsals and drawings are for every system: the program builds
// there too.
func TestBuildsElsewhere(t *testing.T) {
	for _, system := range []string{"darwin", "freebsd", "windows"} {
		cmd := exec.Command("go", "build", "-o", os.DevNull, "./cmd/kettlehole")
		cmd.Dir, cmd.Env = testbed.Root(), append(os.Environ(), "GOOS="+system, "CGO_ENABLED=0")
		out, err := cmd.CombinedOutput()
		assert.NoError(t, err, "%s: %s", system, out)
	}
}
