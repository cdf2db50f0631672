package starter_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kettlehole/internal/labfile"
	"kettlehole/internal/starter"
)

// programs is a folder with a program of each name.
func programs(t *testing.T) string {
	folder := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(folder, "cairn"), []byte("#!/bin/sh\n"), 0o755))
	return folder
}

// Every starter is a right lab file without so much as a caution, by the name
// that it was given, and is never laid over anything.
func TestStarters(t *testing.T) {
	for _, s := range starter.All {
		t.Run(s.Name, func(t *testing.T) {
			folder := filepath.Join(t.TempDir(), "new", "folder")
			written, err := s.Write(folder, "my-lab", programs(t))
			require.NoError(t, err)
			assert.Equal(t, filepath.Join(folder, "my-lab.lab.yaml"), written[0])
			assert.FileExists(t, filepath.Join(folder, "lab.schema.json"))
			source, err := os.ReadFile(written[0])
			require.NoError(t, err)
			root, err := os.OpenRoot(folder)
			require.NoError(t, err)
			defer root.Close()
			lab, findings := labfile.Parse(source, root.ReadFile)
			require.Empty(t, findings, findings.Text("x", source))
			assert.Equal(t, "my-lab", lab.Name)

			before := contents(t, folder)
			_, err = s.Write(folder, "my-lab", programs(t))
			require.ErrorIs(t, err, starter.ErrThere)
			assert.Equal(t, before, contents(t, folder))
		})
	}
}

// A file of another kind that is in the way is left alone, and nothing else is
// written.
func TestNothingIsOverwritten(t *testing.T) {
	s, _ := starter.Find("tier")
	folder := t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(folder, "scripts"), 0o755))
	require.NoError(t, os.Symlink("/nowhere", filepath.Join(folder, "scripts", "worker.py")))
	_, err := s.Write(folder, "shop", "")
	require.ErrorIs(t, err, starter.ErrThere)
	assert.Equal(t, map[string]string{"scripts/worker.py": "link"}, contents(t, folder))
}

func TestProgramMissing(t *testing.T) {
	s, _ := starter.Find("quorum")
	folder := filepath.Join(t.TempDir(), "x")
	_, err := s.Write(folder, "shop", t.TempDir())
	require.ErrorIs(t, err, os.ErrNotExist)
	assert.NoDirExists(t, folder)
}

func contents(t *testing.T, folder string) map[string]string {
	all := map[string]string{}
	require.NoError(t, filepath.WalkDir(folder, func(path string, entry os.DirEntry, err error) error {
		require.NoError(t, err)
		name, err := filepath.Rel(folder, path)
		require.NoError(t, err)
		switch {
		case entry.Type()&os.ModeSymlink != 0:
			all[name] = "link"
		case !entry.IsDir():
			text, err := os.ReadFile(path)
			require.NoError(t, err)
			all[name] = string(text)
		}
		return nil
	}))
	return all
}
