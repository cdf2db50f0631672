package labfile_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kettlehole/internal/labfile"
)

func TestNewForward(t *testing.T) {
	for _, text := range []string{"9090 -> council-1:7001", "auto -> a-1:80", "127.0.0.2:53 -> a-1:53/udp", "[::1]:8080 -> a-1:80", "3000-3009 -> a-1:4000-4009", "auto -> a-1:10-12"} {
		f, err := labfile.NewForward("", text)
		require.NoError(t, err, text)
		assert.Equal(t, text, f.String())
	}
	f, err := labfile.NewForward("", "9090 -> council-1:7001")
	require.NoError(t, err)
	assert.Equal(t, "council-1-7001", f.Name)
	_, err = labfile.NewForward("Upper", "9090 -> council-1:7001")
	assert.ErrorContains(t, err, "small letters")
	_, err = labfile.NewForward("", "9090")
	assert.ErrorContains(t, err, "write a workstation port, an arrow")
	_, err = labfile.NewForward("", "9090 -> council-1:70010")
	assert.Error(t, err)
}

// A forward is written where a person would write it, and nothing else of the
// file changes.
func TestWithForward(t *testing.T) {
	const page = "  page: 80 -> a-1:80"
	for name, c := range map[string]struct{ before, after string }{
		"block":        {"forwards:\n" + page + "   # the page\n\nsteps: {}\n", "forwards:\n" + page + "   # the page\n  more: 9 -> a-1:9\n\nsteps: {}\n"},
		"own indent":   {"forwards:\n    page: 80 -> a-1:80\n", "forwards:\n    page: 80 -> a-1:80\n    more: 9 -> a-1:9\n"},
		"no last line": {"forwards:\n" + page, "forwards:\n" + page + "\n  more: 9 -> a-1:9\n"},
		"none":         {"lab: x\n", "lab: x\n\nforwards:\n  more: 9 -> a-1:9\n"},
		"empty":        {"forwards:\nlab: x\n", "forwards:\n  more: 9 -> a-1:9\nlab: x\n"},
		"flow":         {"forwards: {page: 80 -> a-1:80}  # all\n", "forwards: {page: 80 -> a-1:80, more: 9 -> a-1:9}  # all\n"},
		"crlf":         {"forwards:\r\n" + page + "\r\n", "forwards:\r\n" + page + "\r\n  more: 9 -> a-1:9\r\n"},
	} {
		t.Run(name, func(t *testing.T) {
			f, err := labfile.NewForward("more", "9 -> a-1:9")
			require.NoError(t, err)
			got, err := labfile.WithForward([]byte(c.before), f)
			require.NoError(t, err)
			assert.Equal(t, c.after, string(got))
			_, err = labfile.WithForward(got, f)
			assert.ErrorContains(t, err, "already")
		})
	}
	f, err := labfile.NewForward("more", "[::1]:9 -> a-1:9")
	require.NoError(t, err)
	got, err := labfile.WithForward([]byte("lab: x\n"), f)
	require.NoError(t, err)
	assert.Contains(t, string(got), `more: "[::1]:9 -> a-1:9"`)
	for _, wrong := range []string{"", "- a\n", "forwards: {}\n", "forwards: [\n", "\tx: y\n"} {
		_, err := labfile.WithForward([]byte(wrong), f)
		assert.Error(t, err, "%q", wrong)
	}
}

// Whatever the file is, it is either changed rightly or not at all.
func TestWithForwardIsSafe(t *testing.T) {
	f, err := labfile.NewForward("more", "9 -> a-1:9")
	require.NoError(t, err)
	rapid.Check(t, func(t *rapid.T) {
		text := rapid.StringMatching(`(lab: x\n)?(forwards:( \{a: 1 -> b-1:2 ?,?\}|\n( {1,3}[ab]: "?1 -> b-1:2"?( #x)?\n){0,3}))?(z: \|\n  forwards:\n)?`).Draw(t, "text")
		if got, err := labfile.WithForward([]byte(text), f); err == nil {
			_, err := labfile.WithForward(got, f)
			assert.ErrorContains(t, err, `"more" already`, "%q became %q", text, got)
		}
	})
}
