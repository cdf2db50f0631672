package server

import (
	"fmt"
	"os"
	"path/filepath"

	"kettlehole/internal/agent"
)

// put writes files, each whole or not at all. Folders that are missing are
// made.
func put(files []agent.File) error {
	for _, f := range files {
		if !filepath.IsAbs(f.Path) {
			return fmt.Errorf("putting %q: it is no absolute path", f.Path)
		}
		if err := putOne(f); err != nil {
			return fmt.Errorf("putting %s: %w", f.Path, err)
		}
	}
	return nil
}

func putOne(f agent.File) error {
	folder := filepath.Dir(f.Path)
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	half, err := os.CreateTemp(folder, ".put-*")
	if err != nil {
		return err
	}
	defer os.Remove(half.Name()) // gone once it is renamed
	_, err = half.Write(f.Content)
	if err == nil {
		err = half.Chmod(os.FileMode(f.Mode).Perm())
	}
	if closed := half.Close(); err == nil {
		err = closed
	}
	if err == nil {
		err = os.Rename(half.Name(), f.Path)
	}
	return err
}
