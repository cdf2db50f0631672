package bundle_test

import (
	"bytes"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"kettlehole/internal/bundle"
)

// tree makes a folder with one of each kind.
func tree(t *testing.T) string {
	folder := filepath.Join(t.TempDir(), "tree")
	require.NoError(t, os.MkdirAll(filepath.Join(folder, "deep", "deeper"), 0o755))
	write := func(name, text string, mode os.FileMode) {
		path := filepath.Join(folder, name)
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
		require.NoError(t, os.Chmod(path, mode))
		require.NoError(t, os.Chtimes(path, time.Unix(1, 0), time.Unix(1_000_000_000, 5)))
	}
	write("plain", "some text", 0o644)
	write("run.sh", "#!/bin/sh\n", 0o755)
	write("empty", "", 0o600)
	write("deep/deeper/far", strings.Repeat("far away ", 100_000), 0o640)
	require.NoError(t, os.Symlink("../plain", filepath.Join(folder, "deep", "link")))
	require.NoError(t, os.Symlink("/nowhere/at/all", filepath.Join(folder, "dangling")))
	hollow, err := os.Create(filepath.Join(folder, "hollow"))
	require.NoError(t, err)
	_, err = hollow.WriteAt([]byte("in the middle"), 30<<20)
	require.NoError(t, err)
	require.NoError(t, hollow.Truncate(64<<20))
	require.NoError(t, hollow.Close())
	require.NoError(t, os.Chmod(filepath.Join(folder, "deep", "deeper"), 0o500))
	t.Cleanup(func() { _ = os.Chmod(filepath.Join(folder, "deep", "deeper"), 0o700) })
	return folder
}

// carry sends a path and receives it for a target.
func carry(from, target string) (bundle.Count, error) {
	var stream bytes.Buffer
	var sent bundle.Count
	err := bundle.Send(&stream, from, filepath.Base(from), &sent, nil)
	if err = errors.Join(err, bundle.Finish(&stream, err)); err != nil {
		return sent, err
	}
	into, rename, err := bundle.Open(target, false)
	if err != nil {
		return sent, err
	}
	defer into.Close()
	got, err := bundle.Receive(&stream, into, rename, nil)
	if err == nil && (got.Files != sent.Files || got.Bytes != sent.Bytes) {
		err = errors.New("the counts differ")
	}
	got.Left = sent.Left
	return got, err
}

func TestTree(t *testing.T) {
	from := tree(t)
	require.NoError(t, syscall.Mkfifo(filepath.Join(from, "pipe"), 0o600))
	to := filepath.Join(t.TempDir(), "new", "name")
	count, err := carry(from, to)
	require.NoError(t, err)
	assert.Equal(t, []string{filepath.Join(from, "pipe")}, count.Left)
	assert.Equal(t, 10, count.Files)
	require.NoError(t, filepath.WalkDir(from, func(path string, d fs.DirEntry, err error) error {
		require.NoError(t, err)
		rel, err := filepath.Rel(from, path)
		require.NoError(t, err)
		if rel == "pipe" {
			return nil
		}
		want, err := os.Lstat(path)
		require.NoError(t, err)
		got, err := os.Lstat(filepath.Join(to, rel))
		require.NoError(t, err)
		assert.Equal(t, want.Mode(), got.Mode(), rel)
		switch {
		case d.Type()&fs.ModeSymlink != 0:
			one, _ := os.Readlink(path)
			other, _ := os.Readlink(filepath.Join(to, rel))
			assert.Equal(t, one, other)
		case !d.IsDir():
			assert.Equal(t, want.ModTime(), got.ModTime(), rel)
			one, err := os.ReadFile(path)
			require.NoError(t, err)
			other, err := os.ReadFile(filepath.Join(to, rel))
			require.NoError(t, err)
			assert.True(t, bytes.Equal(one, other), rel)
		}
		return nil
	}))
	var hollow unix.Stat_t
	require.NoError(t, unix.Stat(filepath.Join(to, "hollow"), &hollow))
	assert.Less(t, hollow.Blocks*512, int64(1<<20), "holes stay holes")
	_, err = carry(from, to) // into the folder that is there now
	require.NoError(t, err)
	assert.FileExists(t, filepath.Join(to, "tree", "plain"))
}

func TestNamesOfTargets(t *testing.T) {
	folder := t.TempDir()
	file := filepath.Join(folder, "one")
	require.NoError(t, os.WriteFile(file, []byte("x"), 0o644))
	for target, want := range map[string]string{"two": "two", "sub/": "sub/one", "a/b/c": "a/b/c", ".": "one"} {
		to := filepath.Join(t.TempDir(), "t") + "/" + target
		require.NoError(t, os.MkdirAll(filepath.Join(filepath.Dir(filepath.Clean(to)), "."), 0o755))
		_, err := carry(file, to)
		require.NoError(t, err, target)
		base, _, _ := strings.Cut(to, "/t/")
		assert.FileExists(t, filepath.Join(base, "t", want), target)
	}
	_, _, err := bundle.Open(file, true)
	assert.ErrorContains(t, err, "is no folder")
	_, _, err = bundle.Open(file+"/", false)
	assert.Error(t, err)
	_, err = carry(filepath.Join(folder, "missing"), folder)
	assert.ErrorContains(t, err, "missing: no such file")
}

// What is there may not lead the bundle elsewhere, nor be half replaced.
func TestNeverOutside(t *testing.T) {
	outside := t.TempDir()
	secret := filepath.Join(outside, "secret")
	require.NoError(t, os.WriteFile(secret, []byte("mine"), 0o600))
	target := t.TempDir()
	require.NoError(t, os.Symlink(secret, filepath.Join(target, "plain")))
	require.NoError(t, os.Symlink(outside, filepath.Join(target, "deep")))
	from := tree(t)
	into, err := os.OpenRoot(target)
	require.NoError(t, err)
	defer into.Close()
	for _, name := range []string{"plain", "deep"} {
		var stream bytes.Buffer
		require.NoError(t, bundle.Send(&stream, filepath.Join(from, name), name, &bundle.Count{}, nil))
		require.NoError(t, bundle.Finish(&stream, nil))
		_, err = bundle.Receive(&stream, into, "", nil)
		assert.Equal(t, name == "deep", err != nil, name)
	}
	text, err := os.ReadFile(secret)
	require.NoError(t, err)
	assert.Equal(t, "mine", string(text))
	entries, err := os.ReadDir(outside)
	require.NoError(t, err)
	assert.Len(t, entries, 1)
	got, err := os.ReadFile(filepath.Join(target, "plain"))
	require.NoError(t, err)
	assert.Equal(t, "some text", string(got), "the link itself gave way")
	require.NoError(t, os.Mkdir(filepath.Join(target, "run.sh"), 0o755))
	_, err = carry(filepath.Join(from, "run.sh"), target+"/run.sh/../")
	assert.ErrorContains(t, err, "there is a folder, and a file comes")
	_, err = carry(filepath.Join(from, "deep"), filepath.Join(target, "plain"))
	assert.Error(t, err)
	left, err := filepath.Glob(filepath.Join(target, ".copy-*"))
	require.NoError(t, err)
	assert.Empty(t, left)
}

// A stream that is cut anywhere is an error, and no file is half there.
func TestCutStream(t *testing.T) {
	from := tree(t)
	require.NoError(t, os.Remove(filepath.Join(from, "hollow")))
	var stream bytes.Buffer
	require.NoError(t, bundle.Send(&stream, from, "tree", &bundle.Count{}, nil))
	require.NoError(t, bundle.Finish(&stream, nil))
	whole := stream.Bytes()
	for cut := 0; cut < len(whole); cut += 1 + cut/7 {
		target := t.TempDir()
		into, err := os.OpenRoot(target)
		require.NoError(t, err)
		_, err = bundle.Receive(bytes.NewReader(whole[:cut]), into, "", nil)
		assert.Error(t, err, "cut at %d of %d", cut, len(whole))
		require.NoError(t, into.Close())
		if text, err := os.ReadFile(filepath.Join(target, "tree", "deep", "deeper", "far")); err == nil {
			assert.Len(t, text, 900_000)
		}
		halves, err := filepath.Glob(filepath.Join(target, "tree", ".copy-*"))
		require.NoError(t, err)
		assert.Empty(t, halves)
	}
	var failed bytes.Buffer
	require.NoError(t, bundle.Finish(&failed, errors.New("the disk is gone")))
	into, err := os.OpenRoot(t.TempDir())
	require.NoError(t, err)
	defer into.Close()
	_, err = bundle.Receive(&failed, into, "", nil)
	assert.EqualError(t, err, "the disk is gone")
}

func TestLocal(t *testing.T) {
	for _, good := range []string{"a", "a/b", "..a", "a..b/c"} {
		assert.True(t, bundle.Local(good), good)
	}
	for _, bad := range []string{"", ".", "..", "../a", "/a", "a/../b", "a/..", "./a", "a//b", "a/", "a\x00b"} {
		assert.False(t, bundle.Local(bad), "%q", bad)
	}
}

// Whatever comes, nothing is written beside the target, and nothing hangs.
func FuzzReceive(f *testing.F) {
	var stream bytes.Buffer
	folder := f.TempDir()
	require.NoError(f, os.WriteFile(filepath.Join(folder, "a"), []byte("text"), 0o644))
	require.NoError(f, os.Symlink("..", filepath.Join(folder, "up")))
	require.NoError(f, bundle.Send(&stream, folder, "x", &bundle.Count{}, nil))
	require.NoError(f, bundle.Finish(&stream, nil))
	f.Add(stream.Bytes())
	f.Add(bytes.ReplaceAll(stream.Bytes(), []byte(`"x/a"`), []byte(`"../"`)))
	f.Fuzz(func(t *testing.T, text []byte) {
		if len(text) > 1<<16 {
			return
		}
		outer := t.TempDir()
		require.NoError(t, os.Mkdir(filepath.Join(outer, "target"), 0o755))
		into, err := os.OpenRoot(filepath.Join(outer, "target"))
		require.NoError(t, err)
		defer into.Close()
		_, _ = bundle.Receive(bytes.NewReader(text), into, "", nil)
		entries, err := os.ReadDir(outer)
		require.NoError(t, err)
		require.Len(t, entries, 1)
	})
}
