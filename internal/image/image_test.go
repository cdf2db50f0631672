package image_test

import (
	"context"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kettlehole/internal/image"
)

func entries(t *testing.T) []image.Entry {
	source := filepath.Join(t.TempDir(), "program")
	require.NoError(t, os.WriteFile(source, []byte("a program"), 0o755))
	return []image.Entry{
		{Path: "etc", Mode: fs.ModeDir | 0o755}, {Path: "tmp", Mode: fs.ModeDir | fs.ModeSticky | 0o777},
		{Path: "etc/name", Mode: 0o644, Data: "text"}, {Path: "etc/link", Link: "../x"}, {Path: "etc/program", Mode: 0o755, Source: source},
	}
}

func nothing(image.Layer) error { return nil }

func TestLayer(t *testing.T) {
	store := image.NewStore(filepath.Join(t.TempDir(), "images"))
	content := entries(t)
	intended := 0
	intend := func(l image.Layer) error {
		intended++
		_, err := os.Stat(l.Path)
		assert.ErrorIs(t, err, fs.ErrNotExist, "it is announced before it is made")
		return nil
	}
	layer, err := store.Layer(t.Context(), content, intend)
	require.NoError(t, err)
	again, err := store.Layer(t.Context(), content, intend)
	require.NoError(t, err)
	assert.Equal(t, layer, again)
	assert.Equal(t, 1, intended, "made once")
	text, err := os.ReadFile(filepath.Join(layer.Path, "etc/program"))
	require.NoError(t, err)
	assert.Equal(t, "a program", string(text))
	target, err := os.Readlink(filepath.Join(layer.Path, "etc/link"))
	require.NoError(t, err)
	assert.Equal(t, "../x", target)
	info, err := os.Stat(filepath.Join(layer.Path, "tmp"))
	require.NoError(t, err)
	assert.Equal(t, fs.ModeDir|fs.ModeSticky|0o777, info.Mode())
}

// Any change of any file gives another digest.
func TestDigest(t *testing.T) {
	content := entries(t)
	seen := map[string]bool{}
	add := func() {
		digest, err := image.Digest(content)
		require.NoError(t, err)
		assert.Regexp(t, "^sha256:[0-9a-f]{64}$", digest)
		assert.False(t, seen[digest])
		seen[digest] = true
	}
	add()
	content[2].Data = "other"
	add()
	content[2].Mode = 0o600
	add()
	content[3].Link = "elsewhere"
	add()
	require.NoError(t, os.WriteFile(content[4].Source, []byte("another program"), 0o755))
	add()
	content[2], content[3] = content[3], content[2]
	add()
}

func TestRefusedAndBroken(t *testing.T) {
	folder := filepath.Join(t.TempDir(), "images")
	store := image.NewStore(folder)
	content := entries(t)
	_, err := store.Layer(t.Context(), content, func(image.Layer) error { return assert.AnError })
	assert.ErrorIs(t, err, assert.AnError)
	assert.NoDirExists(t, folder, "nothing was made")
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	_, err = store.Layer(ctx, content, nothing)
	assert.ErrorIs(t, err, context.Canceled)
	digest, err := image.Digest(content)
	require.NoError(t, err)
	// What a crash left half made is made anew.
	part := store.Path(digest) + ".part"
	require.NoError(t, os.MkdirAll(filepath.Join(part, "etc", "name"), 0o755))
	layer, err := store.Layer(t.Context(), content, nothing)
	require.NoError(t, err)
	assert.FileExists(t, filepath.Join(layer.Path, "etc", "name"))
	assert.NoDirExists(t, part)
	content[4].Source = "/no/such/file"
	_, err = store.Layer(t.Context(), content, nothing)
	assert.ErrorIs(t, err, fs.ErrNotExist)
}

func TestMadeByMany(t *testing.T) {
	store := image.NewStore(filepath.Join(t.TempDir(), "images"))
	content := entries(t)
	var all sync.WaitGroup
	for range 8 {
		all.Go(func() { _, err := store.Layer(t.Context(), content, nothing); assert.NoError(t, err) })
	}
	all.Wait()
}

// The image takes from the workstation's /etc only what everybody may read,
// and no file twice.
func TestWorkstation(t *testing.T) {
	init := filepath.Join(t.TempDir(), "init")
	require.NoError(t, os.WriteFile(init, []byte("init"), 0o755))
	content, err := image.Workstation(init, init)
	require.NoError(t, err)
	paths := map[string]image.Entry{}
	for _, e := range content {
		_, twice := paths[e.Path]
		assert.False(t, twice, "%s stands there twice", e.Path)
		paths[e.Path] = e
		if e.Source != "" && e.Source != init {
			info, err := os.Stat(e.Source)
			require.NoError(t, err)
			assert.NotZero(t, info.Mode().Perm()&0o004, "%s is not everybody's to read", e.Source)
			assert.True(t, strings.HasPrefix(e.Source, "/etc/") || strings.HasPrefix(e.Source, "/usr/"), e.Source)
		}
		for _, secret := range []string{"ssh", "private", "sudoers", "gshadow", "krb5", "environment"} {
			assert.NotContains(t, e.Path, secret)
		}
	}
	assert.Equal(t, init, paths["opt/kettlehole/init"].Source)
	assert.NotContains(t, paths["etc/shadow"].Data, "$")
	assert.Equal(t, fs.FileMode(0o600), paths["etc/shadow"].Mode)
	assert.True(t, strings.HasPrefix(paths["bin"].Link, "usr/"))
	again, err := image.Workstation(init, init)
	require.NoError(t, err)
	assert.Equal(t, content, again, "the same each time")
}

func TestPrograms(t *testing.T) {
	folder := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(folder, "b"), nil, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "a"), nil, 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(folder, "notes"), nil, 0o644))
	require.NoError(t, os.Mkdir(filepath.Join(folder, "sub"), 0o755))
	content, err := image.Programs(folder)
	require.NoError(t, err)
	var names []string
	for _, e := range content {
		if e.Source != "" {
			names = append(names, e.Path)
		}
	}
	assert.Equal(t, []string{"opt/lab/bin/a", "opt/lab/bin/b"}, names)
	_, err = image.Programs(filepath.Join(folder, "none"))
	assert.Error(t, err)
	empty, err := image.Programs("")
	require.NoError(t, err)
	assert.NotEmpty(t, empty, "a layer without programs is a layer")
}
