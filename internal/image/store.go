// Package image keeps images as layers by digest: folders that are made once,
// never changed, and shared by every node of every lab.
package image

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"kettlehole/internal/lock"
)

// Layer is a folder of files that a node's disk starts as.
type Layer struct {
	Digest string // "sha256:" and 64 hexadecimal digits
	Path   string
}

// Entry is one file of a layer: a folder, a link, or a regular file whose
// content is Data or, where Source is set, that of another file.
type Entry struct {
	Path   string // relative to the root
	Mode   fs.FileMode
	Link   string
	Data   string
	Source string
}

// Store is a folder of layers. It is safe for concurrent use, also by several
// processes.
type Store struct{ folder string }

// NewStore gives the store in folder, which need not exist.
func NewStore(folder string) Store { return Store{folder} }

// Path is where a layer of this digest is or will be.
func (s Store) Path(digest string) string {
	return filepath.Join(s.folder, strings.TrimPrefix(digest, "sha256:"))
}

// Digest gives the digest that a layer of these entries has.
func Digest(entries []Entry) (string, error) {
	h := sha256.New()
	for _, e := range entries {
		fmt.Fprintf(h, "%q %o %q ", e.Path, e.Mode, e.Link)
		if err := e.content(h); err != nil {
			return "", fmt.Errorf("reading %q for an image: %w", e.Path, err)
		}
		fmt.Fprintln(h)
	}
	return fmt.Sprintf("sha256:%x", h.Sum(nil)), nil
}

// content writes the entry's content after its length.
func (e Entry) content(to io.Writer) error {
	if e.Source == "" {
		fmt.Fprintf(to, "%d ", len(e.Data))
		_, err := io.WriteString(to, e.Data)
		return err
	}
	file, err := os.Open(e.Source)
	if err != nil {
		return err
	}
	defer file.Close()
	info, err := file.Stat()
	if err != nil {
		return err
	}
	fmt.Fprintf(to, "%d ", info.Size())
	_, err = io.CopyN(to, file, info.Size())
	return err
}

// Layer gives the layer of these entries and makes it where there is none.
// intend is told the digest and path before anything is made.
func (s Store) Layer(ctx context.Context, entries []Entry, intend func(Layer) error) (Layer, error) {
	digest, err := Digest(entries)
	if err != nil {
		return Layer{}, err
	}
	layer := Layer{digest, s.Path(digest)}
	if s.touch(layer) {
		return layer, nil
	}
	if err := intend(layer); err != nil {
		return layer, err
	}
	unlock, err := s.lock()
	if err != nil {
		return layer, err
	}
	defer unlock()
	if _, err := os.Stat(layer.Path); err == nil {
		return layer, nil // another process made it meanwhile
	}
	part := layer.Path + ".part"
	if err := os.RemoveAll(part); err != nil {
		return layer, fmt.Errorf("clearing a half-made layer: %w", err)
	}
	for _, e := range entries {
		if err := errors.Join(ctx.Err(), e.write(part)); err != nil {
			return layer, errors.Join(fmt.Errorf("making a layer: %w", err), os.RemoveAll(part))
		}
	}
	if again, err := Digest(entries); err != nil || again != digest {
		return layer, errors.Join(errors.New("making a layer: its files changed meanwhile; try again"), err, os.RemoveAll(part))
	}
	if err := os.Rename(part, layer.Path); err != nil {
		return layer, fmt.Errorf("making a layer: %w", err)
	}
	return layer, nil
}

func (s Store) lock() (func(), error) {
	if err := os.MkdirAll(s.folder, 0o700); err != nil {
		return nil, fmt.Errorf("making the folder of images: %w", err)
	}
	file, err := os.OpenFile(filepath.Join(s.folder, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err == nil {
		err = lock.Wait(file)
	}
	if err != nil {
		return nil, fmt.Errorf("locking the images: %w", err)
	}
	return func() { _ = file.Close() }, nil
}

func (e Entry) write(root string) error {
	path := filepath.Join(root, e.Path)
	switch {
	case e.Mode.IsDir():
		if err := os.MkdirAll(path, 0o755); err != nil {
			return err
		}
		return os.Chmod(path, e.Mode)
	case e.Link != "":
		return os.Symlink(e.Link, path)
	}
	file, err := os.OpenFile(path, os.O_CREATE|os.O_WRONLY|os.O_EXCL, 0o600)
	if err != nil {
		return err
	}
	defer file.Close()
	if e.Source == "" {
		_, err = io.WriteString(file, e.Data)
	} else {
		var from *os.File
		if from, err = os.Open(e.Source); err == nil {
			_, err = io.Copy(file, from)
			err = errors.Join(err, from.Close())
		}
	}
	return errors.Join(err, os.Chmod(path, e.Mode))
}
