package bundle

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
)

// Send writes what is at a path, and all below, as name. It is followed by more, or by [Finish]. Links are sent as what
// they are, but for the path itself, which may be one.
func Send(w io.Writer, from, name string, count *Count, progress Progress) error {
	info, err := os.Stat(from)
	if err != nil {
		return plain(err)
	}
	s := sender{w: w, count: count, progress: progress, buffer: make([]byte, piece)}
	return s.send(from, name, info)
}

type sender struct {
	w        io.Writer
	count    *Count
	progress Progress
	buffer   []byte
}

// plain leaves the operation out of an error about a path.
func plain(err error) error {
	if about, is := errors.AsType[*fs.PathError](err); is {
		return fmt.Errorf("%s: %w", about.Path, about.Err)
	}
	return err
}

func (s *sender) send(from, name string, info fs.FileInfo) error {
	e := Entry{Path: name, Mode: uint32(info.Mode().Perm()), Time: info.ModTime().UnixNano()}
	switch {
	case info.IsDir():
		e.Kind = Folder
	case info.Mode().IsRegular():
		return s.file(from, e)
	case info.Mode()&fs.ModeSymlink != 0:
		target, err := os.Readlink(from)
		if err != nil {
			return plain(err)
		}
		e.Kind, e.Target = Link, target
	default:
		s.count.Left = append(s.count.Left, from)
		return nil
	}
	if err := writeHead(s.w, e); err != nil {
		return err
	}
	s.count.Files++
	if e.Kind != Folder {
		return nil
	}
	entries, err := os.ReadDir(from)
	if err != nil {
		return plain(err)
	}
	for _, entry := range entries {
		info, err := entry.Info()
		if errors.Is(err, fs.ErrNotExist) {
			continue // it went meanwhile
		} else if err != nil {
			return plain(err)
		}
		if err := s.send(filepath.Join(from, entry.Name()), path.Join(name, entry.Name()), info); err != nil {
			return err
		}
	}
	return nil
}

// file sends a file without its holes.
func (s *sender) file(from string, e Entry) error {
	file, err := os.Open(from)
	if err != nil {
		return plain(err)
	}
	defer file.Close()
	info, err := file.Stat()
	if err != nil {
		return plain(err)
	}
	if !info.Mode().IsRegular() {
		return fmt.Errorf("%s: it became something else meanwhile", from)
	}
	e.Kind, e.Size = File, info.Size()
	if err := writeHead(s.w, e); err != nil {
		return err
	}
	for at := int64(0); at < e.Size; {
		data, hole := extent(file, at, e.Size)
		for data < hole {
			n, err := file.ReadAt(s.buffer[:min(int64(len(s.buffer)), hole-data)], data)
			if n > 0 {
				if err := s.piece(data, s.buffer[:n]); err != nil {
					return err
				}
				data += int64(n)
			}
			if err == io.EOF {
				break // it became shorter meanwhile
			} else if err != nil {
				return plain(err)
			}
		}
		at = max(hole, at+1)
	}
	s.count.Files++
	return s.piece(0, nil)
}

func (s *sender) piece(at int64, data []byte) error {
	head := binary.BigEndian.AppendUint32(binary.BigEndian.AppendUint64(nil, uint64(at)), uint32(len(data)))
	if _, err := s.w.Write(head); err != nil {
		return err
	}
	if len(data) == 0 {
		return nil
	}
	if _, err := s.w.Write(data); err != nil {
		return err
	}
	s.count.Bytes += int64(len(data))
	if s.progress != nil {
		s.progress(int64(len(data)))
	}
	return nil
}
