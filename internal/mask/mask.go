// Package mask replaces secrets in text that passes through it, wherever the
// writes happen to cut them.
package mask

import (
	"bytes"
	"io"
	"slices"
	"sync"
)

// Dots is what stands in place of a secret.
const Dots = "••••••••"

// shortest is the length in bytes from which a text is worth hiding; a secret
// of one letter would make every line unreadable and protect nothing.
const shortest = 4

// Set is a set of secrets. The zero Set is empty and ready to use. It is safe
// for concurrent use.
type Set struct {
	mu      sync.RWMutex
	texts   []string  // as they were added
	secrets [][]byte  // in every writing that is hidden, longest first
	first   [256]bool // the bytes that they begin with
}

// Add puts secrets into the set. Each line of a text of several lines is a
// secret too, and so is each in the writings of [writings].
func (s *Set) Add(texts ...string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, text := range texts {
		whole := bytes.TrimSpace([]byte(text))
		for _, secret := range append(bytes.Split(whole, []byte("\n")), whole) {
			if len(secret) < shortest || slices.Contains(s.texts, string(secret)) {
				continue
			}
			s.texts = append(s.texts, string(secret))
			for _, one := range append(writings(secret), secret) {
				if !slices.ContainsFunc(s.secrets, func(k []byte) bool { return bytes.Equal(k, one) }) {
					s.secrets = append(s.secrets, one)
					s.first[one[0]] = true
				}
			}
		}
	}
	slices.SortStableFunc(s.secrets, func(a, b []byte) int { return len(b) - len(a) })
}

// Texts gives the secrets as they were added.
func (s *Set) Texts() []string {
	s.mu.RLock()
	defer s.mu.RUnlock()
	return slices.Clone(s.texts)
}

// Text gives text without the secrets.
func (s *Set) Text(text string) string {
	out, _ := s.cut([]byte(text), true)
	return string(out)
}

// cut replaces secrets in data. Unless last, it keeps back as rest the end of
// data that may be the beginning of a secret.
func (s *Set) cut(data []byte, last bool) (out, rest []byte) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	if len(s.secrets) == 0 {
		return data, nil
	}
	out = make([]byte, 0, len(data))
	for at := 0; at < len(data); {
		if !s.first[data[at]] {
			out = append(out, data[at])
			at++
			continue
		}
		found, partial := 0, false
		for _, secret := range s.secrets {
			tail := data[at:]
			if bytes.HasPrefix(tail, secret) {
				found = len(secret)
				break
			}
			partial = partial || len(tail) < len(secret) && bytes.HasPrefix(secret, tail)
		}
		switch {
		case partial && !last:
			// A longer secret may still be coming, even if a shorter one is here.
			return out, slices.Clone(data[at:])
		case found > 0:
			out = append(out, Dots...)
			at += found
		default:
			out = append(out, data[at])
			at++
		}
	}
	return out, nil
}

// Writer passes on what is written to it without the secrets of the set. It
// holds back only bytes that may be the beginning of a secret; Flush lets
// them go. It is not safe for concurrent use.
type Writer struct {
	set  *Set
	to   io.Writer
	rest []byte
}

// NewWriter returns a Writer that writes to w.
func NewWriter(set *Set, w io.Writer) *Writer { return &Writer{set: set, to: w} }

// Write masks p and passes it on.
func (w *Writer) Write(p []byte) (int, error) {
	data := p
	if len(w.rest) > 0 {
		data = append(w.rest, p...)
	}
	var out []byte
	out, w.rest = w.set.cut(data, false)
	if len(out) > 0 {
		if _, err := w.to.Write(out); err != nil {
			return 0, err
		}
	}
	return len(p), nil
}

// Flush passes on what was held back.
func (w *Writer) Flush() error {
	out, _ := w.set.cut(w.rest, true)
	w.rest = nil
	if len(out) == 0 {
		return nil
	}
	_, err := w.to.Write(out)
	return err
}
