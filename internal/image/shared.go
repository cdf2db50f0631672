package image

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"kettlehole/internal/lock"
)

// About says what a layer is.
type About struct {
	Step string    `json:"step,omitempty"` // the shared step that left it, "" for an image's own
	Lab  string    `json:"lab,omitempty"`  // in which it was made
	Made time.Time `json:"made,omitzero"`
}

// Kept is a layer of the store.
type Kept struct {
	Layer
	About
	Size int64 // bytes on disk
}

// otherMakes is how often it is looked whether another maker is done.
const otherMakes = 100 * time.Millisecond

// Shared gives the layer of this digest. Where there is none, make is called
// with the path of a folder that it must bring about; never by two at a time
// for the same digest, whatever process they are in. waits is told, once, that
// another one is making it.
func (s Store) Shared(ctx context.Context, digest string, about About, make func(part string) error, waits func()) (Layer, error) {
	layer := Layer{digest, s.Path(digest)}
	if err := os.MkdirAll(s.folder, 0o700); err != nil {
		return layer, fmt.Errorf("making the folder of images: %w", err)
	}
	held, err := os.OpenFile(layer.Path+".lock", os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return layer, fmt.Errorf("locking a layer: %w", err)
	}
	defer held.Close()
	for told := false; ; {
		err := lock.Try(held)
		if err == nil {
			break
		}
		if !errors.Is(err, lock.ErrHeld) {
			return layer, fmt.Errorf("locking a layer: %w", err)
		}
		if !told {
			told = true
			waits()
		}
		select {
		case <-ctx.Done():
			return layer, context.Cause(ctx)
		case <-time.After(otherMakes):
		}
	}
	if s.touch(layer) {
		return layer, nil
	}
	part := layer.Path + ".part"
	if err := os.RemoveAll(part); err != nil {
		return layer, fmt.Errorf("clearing a half-made layer: %w", err)
	}
	if err := make(part); err != nil {
		return layer, errors.Join(err, os.RemoveAll(part))
	}
	text, err := json.Marshal(about)
	if err == nil {
		err = os.WriteFile(layer.Path+".json", text, 0o600)
	}
	if err == nil {
		err = os.Rename(part, layer.Path)
	}
	if err != nil {
		return layer, fmt.Errorf("keeping a layer: %w", err)
	}
	return layer, nil
}

// touch marks a layer as used now, and tells whether it is there.
func (s Store) touch(l Layer) bool {
	now := time.Now()
	return os.Chtimes(l.Path, now, now) == nil
}

// List gives the layers of the store.
func (s Store) List() ([]Kept, error) {
	entries, err := os.ReadDir(s.folder)
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("listing layers: %w", err)
	}
	var all []Kept
	for _, e := range entries {
		if !e.IsDir() || strings.Contains(e.Name(), ".") {
			continue
		}
		one := Kept{Layer: Layer{"sha256:" + e.Name(), filepath.Join(s.folder, e.Name())}}
		if text, err := os.ReadFile(one.Path + ".json"); err == nil {
			_ = json.Unmarshal(text, &one.About) // one that cannot be read is of nothing known
		}
		if info, err := e.Info(); err == nil && one.Made.IsZero() {
			one.Made = info.ModTime()
		}
		one.Size = size(one.Path)
		all = append(all, one)
	}
	return all, nil
}

// block is the least that a file takes on most disks, in bytes.
const block = 4 << 10

// size adds up what the files of a folder take on disk.
func size(folder string) int64 {
	total := int64(0)
	_ = filepath.WalkDir(folder, func(_ string, e os.DirEntry, err error) error {
		if err == nil {
			if info, err := e.Info(); err == nil {
				total += (info.Size() + block - 1) / block * block
			}
		}
		return nil // what cannot be read counts for nothing
	})
	return total
}

// youngest is how old the last use of a layer must be for it to be removed: a
// lab that is just beginning may be about to record its use.
const youngest = time.Minute

// Remove takes a layer away, unless it is being made or was used just now; it
// tells whether it did.
func (s Store) Remove(digest string) (bool, error) {
	path := s.Path(digest)
	held, err := os.OpenFile(path+".lock", os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return false, fmt.Errorf("locking a layer: %w", err)
	}
	defer held.Close()
	if lock.Try(held) != nil {
		return false, nil
	}
	info, err := os.Stat(path)
	if err != nil || time.Since(info.ModTime()) < youngest {
		return false, nil
	}
	// Out of its name first, so that nobody finds half a layer.
	gone := path + ".gone"
	if err := os.Rename(path, gone); err != nil {
		return false, fmt.Errorf("removing a layer: %w", err)
	}
	for _, left := range []string{gone, path + ".json", path + ".log"} {
		if err := os.RemoveAll(left); err != nil {
			return true, fmt.Errorf("removing a layer: %w", err)
		}
	}
	return true, nil
}
