// Package bundle carries files, folders and symbolic links from one place to
// another as one stream: whole trees, sparse files kept sparse, nothing ever
// written outside of the target.
//
// The stream is a sequence of records. A record is the length of a head as a
// big-endian 32-bit number and the head, a JSON [Entry]. After the head of a
// file come its pieces, each its offset (64 bits), its length (32 bits) and its
// bytes, and a piece of length 0 that ends it. The last record has the kind
// [End], so that a stream that was cut is never taken for whole.
package bundle

import (
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"path"
	"strings"
)

// Kind is what an entry is.
type Kind string

// The kinds of entries.
const (
	File   Kind = "file"
	Folder Kind = "folder"
	Link   Kind = "link" // symbolic
	End    Kind = "end"
)

// Entry is the head of a record.
type Entry struct {
	Kind   Kind   `json:"kind"`
	Path   string `json:"path,omitempty"`   // relative, with slashes
	Mode   uint32 `json:"mode,omitempty"`   // permission bits
	Size   int64  `json:"size,omitempty"`   // of a file, holes counted
	Time   int64  `json:"time,omitempty"`   // of the last change, unix time in nanoseconds
	Target string `json:"target,omitempty"` // of a link, as it stands there
	Failed string `json:"failed,omitempty"` // of the end: why the sender stopped
}

const (
	longestHead = 64 << 10
	// piece is the longest piece that is sent, and longestPiece the longest that
	// is taken.
	piece        = 256 << 10
	longestPiece = 1 << 20
)

var errCut = errors.New("the stream ended before its end")

// Local tells whether a path of a bundle stays where it is put.
func Local(name string) bool {
	return name != "" && name != "." && !path.IsAbs(name) && path.Clean(name) == name && name != ".." && !strings.HasPrefix(name, "../") && !strings.Contains(name, "\x00")
}

func writeHead(w io.Writer, e Entry) error {
	head, err := json.Marshal(e)
	if err != nil {
		return err
	}
	if len(head) > longestHead {
		return fmt.Errorf("the name of %.40q… is too long", e.Path)
	}
	_, err = w.Write(append(binary.BigEndian.AppendUint32(nil, uint32(len(head))), head...))
	return err
}

func readHead(r io.Reader) (Entry, error) {
	var e Entry
	var length [4]byte
	if _, err := io.ReadFull(r, length[:]); err != nil {
		return e, errCut
	}
	n := binary.BigEndian.Uint32(length[:])
	if n > longestHead {
		return e, fmt.Errorf("a head of %d bytes is more than one may have", n)
	}
	head := make([]byte, n)
	if _, err := io.ReadFull(r, head); err != nil {
		return e, errCut
	}
	if err := json.Unmarshal(head, &e); err != nil {
		return e, fmt.Errorf("reading a head: %w", err)
	}
	switch {
	case e.Kind == End:
	case !Local(e.Path):
		return e, fmt.Errorf("%q leads out of the target", e.Path)
	case e.Size < 0:
		return e, fmt.Errorf("%q has a size of %d", e.Path, e.Size)
	case e.Kind != File && e.Kind != Folder && e.Kind != Link:
		return e, fmt.Errorf("%q is of a kind %q that nobody knows", e.Path, e.Kind)
	}
	return e, nil
}

// Count is what went through.
type Count struct {
	Files int   `json:"files"` // folders and links counted
	Bytes int64 `json:"bytes"` // without holes
	// Left are paths that were left out, since they are neither files nor folders
	// nor links.
	Left []string `json:"left,omitempty"`
}

// Progress is told how many bytes went through since it was told last; nil for
// nobody. It is called often.
type Progress func(bytes int64)

// Finish writes the end of a stream. failed says why it is not whole, nil
// where it is.
func Finish(w io.Writer, failed error) error {
	e := Entry{Kind: End}
	if failed != nil {
		e.Failed = failed.Error()
	}
	return writeHead(w, e)
}
