package bundle

import (
	"crypto/rand"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"strings"
	"time"
)

// Receive writes what comes into the folder, until the end of the bundle. What
// is there stays, unless something of the same name comes: a file takes the
// place of a file or link, each whole or not at all. rename is another name for
// what stands at the top of the bundle, "" to keep its own.
func Receive(r io.Reader, into *os.Root, rename string, progress Progress) (Count, error) {
	v := receiver{r: r, into: into, progress: progress, buffer: make([]byte, piece)}
	for {
		e, err := readHead(r)
		if err != nil {
			return v.count, err
		}
		if e.Kind == End {
			if e.Failed != "" {
				return v.count, errors.New(e.Failed)
			}
			return v.count, v.settle()
		}
		if rename != "" {
			_, below, _ := strings.Cut(e.Path, "/")
			e.Path = path.Join(rename, below)
		}
		if err := v.take(e); err != nil {
			return v.count, err
		}
		v.count.Files++
	}
}

type receiver struct {
	r        io.Reader
	into     *os.Root
	progress Progress
	count    Count
	buffer   []byte
	folders  []Entry // whose modes and times come last
}

func (v *receiver) take(e Entry) error {
	if !Local(e.Path) {
		return fmt.Errorf("%q leads out of the target", e.Path)
	}
	var err error
	switch e.Kind {
	case Folder:
		// Written into before it may get a mode that forbids it.
		if err = v.into.Mkdir(e.Path, 0o700); errors.Is(err, fs.ErrExist) {
			info, statErr := v.into.Stat(e.Path)
			if err = statErr; err == nil && !info.IsDir() {
				err = fmt.Errorf("%s: there is a file, and a folder comes", e.Path)
			}
		}
		v.folders = append(v.folders, e)
	case Link:
		half := v.half(e.Path)
		if err = v.into.Symlink(e.Target, half); err == nil {
			err = v.rename(half, e.Path)
		}
	case File:
		err = v.file(e)
	}
	return plain(err)
}

// half is a name beside a path that nobody has.
func (v *receiver) half(name string) string { return path.Join(path.Dir(name), ".copy-"+rand.Text()) }

func (v *receiver) rename(half, name string) error {
	if info, err := v.into.Lstat(name); err == nil && info.IsDir() {
		return errors.Join(fmt.Errorf("%s: there is a folder, and a file comes", name), v.into.Remove(half))
	}
	if err := v.into.Rename(half, name); err != nil {
		return errors.Join(err, v.into.Remove(half))
	}
	return nil
}

func (v *receiver) file(e Entry) (err error) {
	half := v.half(e.Path)
	file, err := v.into.OpenFile(half, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer func() {
		if file != nil {
			err = errors.Join(err, file.Close(), v.into.Remove(half))
		}
	}()
	if err := v.pieces(file, e); err != nil {
		return err
	}
	if err := file.Truncate(e.Size); err != nil {
		return err
	}
	if err := file.Chmod(os.FileMode(e.Mode).Perm()); err != nil {
		return err
	}
	closing := file
	file = nil
	if err := closing.Close(); err != nil {
		return errors.Join(err, v.into.Remove(half))
	}
	when := time.Unix(0, e.Time)
	if err := v.into.Chtimes(half, when, when); err != nil {
		return errors.Join(err, v.into.Remove(half))
	}
	return v.rename(half, e.Path)
}

func (v *receiver) pieces(file *os.File, e Entry) error {
	for {
		var head [12]byte
		if _, err := io.ReadFull(v.r, head[:]); err != nil {
			return errCut
		}
		at, length := binary.BigEndian.Uint64(head[:8]), int64(binary.BigEndian.Uint32(head[8:]))
		if length == 0 {
			return nil
		}
		if length > longestPiece || at > uint64(e.Size) || length > e.Size-int64(at) {
			return fmt.Errorf("%s: a piece of %d bytes at %d lies outside of it", e.Path, length, at)
		}
		for left := length; left > 0; {
			n, err := io.ReadFull(v.r, v.buffer[:min(left, int64(len(v.buffer)))])
			if err != nil {
				return errCut
			}
			if _, err := file.WriteAt(v.buffer[:n], int64(at)); err != nil {
				return err
			}
			at, left = at+uint64(n), left-int64(n)
		}
		v.count.Bytes += length
		if v.progress != nil {
			v.progress(length)
		}
	}
}

// settle gives folders their modes and times, the deepest first.
func (v *receiver) settle() error {
	for i := len(v.folders) - 1; i >= 0; i-- {
		e := v.folders[i]
		err := v.into.Chmod(e.Path, os.FileMode(e.Mode).Perm())
		if when := time.Unix(0, e.Time); err == nil {
			err = v.into.Chtimes(e.Path, when, when)
		}
		if err != nil {
			return plain(err)
		}
	}
	return nil
}
