package server

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"time"
)

// Time stamps in logs, one at the head of each line.
const stampLayout = "2006-01-02T15:04:05.000Z "

// logFile is a log whose lines bear the time. When it has grown to limit it is
// put aside under its name with ".1", in place of what was put aside before.
// It is not safe for concurrent use.
type logFile struct {
	path    string
	limit   int64 // bytes
	file    *os.File
	size    int64
	midLine bool
}

func openLog(path string, limit int64) (*logFile, error) {
	l := &logFile{path: path, limit: limit}
	return l, l.open()
}

func (l *logFile) open() error {
	file, err := os.OpenFile(l.path, os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
	if err != nil {
		return fmt.Errorf("opening log: %w", err)
	}
	info, err := file.Stat()
	if err != nil {
		return fmt.Errorf("opening log: %w", err)
	}
	l.file, l.size = file, info.Size()
	return nil
}

// Write adds p to the log.
func (l *logFile) Write(p []byte) (int, error) {
	stamp := time.Now().UTC().Format(stampLayout)
	out := make([]byte, 0, len(p)+len(stamp)*(1+bytes.Count(p, []byte("\n"))))
	for rest := p; len(rest) > 0; {
		if !l.midLine {
			out = append(out, stamp...)
		}
		line := rest
		if at := bytes.IndexByte(rest, '\n'); at >= 0 {
			line = rest[:at+1]
		}
		out = append(out, line...)
		l.midLine = line[len(line)-1] != '\n'
		rest = rest[len(line):]
	}
	n, err := l.file.Write(out)
	l.size += int64(n)
	if err != nil {
		return 0, err
	}
	if l.size >= l.limit && !l.midLine {
		return len(p), l.turn()
	}
	return len(p), nil
}

// turn puts the full file aside and begins a new one.
func (l *logFile) turn() error {
	if err := l.file.Close(); err != nil {
		return err
	}
	if err := os.Rename(l.path, l.path+".1"); err != nil {
		return err
	}
	return l.open()
}

// Close ends the last line and the file.
func (l *logFile) Close() error {
	if l.midLine {
		_, _ = l.file.Write([]byte("\n"))
	}
	return l.file.Close()
}

// tail keeps the last bytes that are written to it.
type tail struct {
	limit int
	kept  []byte
}

func (t *tail) Write(p []byte) (int, error) {
	t.kept = append(t.kept, p...)
	if extra := len(t.kept) - t.limit; extra > 0 {
		t.kept = append(t.kept[:0], t.kept[extra:]...)
	}
	return len(p), nil
}

// collect gives a reader of a program's output that closes ended at its end.
func collect(to io.Writer, ended chan struct{}) func(io.ReadCloser) {
	return func(from io.ReadCloser) {
		defer close(ended)
		defer from.Close()
		_, _ = io.Copy(to, from)
	}
}
