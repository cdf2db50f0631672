// Package starter holds lab files to begin with.
package starter

import (
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"strings"

	"kettlehole/internal/labfile/shape"
)

//go:embed files
var files embed.FS

// Starter is a lab to begin with.
type Starter struct {
	Name  string `json:"name"`
	About string `json:"about"`
	// Programs are the programs of this project that the lab runs and that are
	// copied beside it.
	Programs []string `json:"programs,omitempty"`
}

// All are the starters, the plainest first.
var All = []Starter{
	{Name: "blank", About: "two nodes and a step"},
	{Name: "pair", About: "a primary and a standby that follows it"},
	{Name: "tier", About: "a front door before workers, as many as you like"},
	{Name: "quorum", About: "three voting members that agree on a ledger", Programs: []string{"cairn"}},
}

// Find gives the starter of this name.
func Find(name string) (Starter, bool) {
	for _, s := range All {
		if s.Name == name {
			return s, true
		}
	}
	return Starter{}, false
}

// ErrThere is a file that a starter would have to overwrite.
var ErrThere = errors.New("is there already; a starter never overwrites")

var labLine = regexp.MustCompile(`(?m)^lab: .*$`)

// Write lays the starter's files into a folder, which is made if it is
// missing, and gives their paths, the lab file first. The lab gets the name
// lab. programs is the folder where the project's programs are. Where a file
// of that name is there already nothing is written, and the error is
// [ErrThere].
func (s Starter) Write(folder, lab, programs string) ([]string, error) {
	contents := map[string][]byte{}
	modes := map[string]fs.FileMode{}
	var names []string
	add := func(name string, content []byte, mode fs.FileMode) {
		names = append(names, name)
		contents[name], modes[name] = content, mode
	}
	labFile := lab + ".lab.yaml"
	source, err := files.ReadFile(path.Join("files", s.Name, s.Name+".lab.yaml"))
	if err != nil {
		return nil, fmt.Errorf("reading starter %q: %w", s.Name, err)
	}
	add(labFile, labLine.ReplaceAll(source, []byte("lab: "+lab)), 0o644)
	root := path.Join("files", s.Name)
	err = fs.WalkDir(files, root, func(at string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() || strings.HasSuffix(at, ".lab.yaml") {
			return err
		}
		content, err := files.ReadFile(at)
		add(strings.TrimPrefix(at, root+"/"), content, 0o755)
		return err
	})
	if err != nil {
		return nil, fmt.Errorf("reading starter %q: %w", s.Name, err)
	}
	for _, program := range s.Programs {
		content, err := os.ReadFile(filepath.Join(programs, program))
		if err != nil {
			return nil, fmt.Errorf("reading the program that starter %q runs: %w", s.Name, err)
		}
		add(path.Join("programs", program), content, 0o755)
	}
	for _, name := range names {
		if _, err := os.Lstat(filepath.Join(folder, name)); err == nil {
			return nil, fmt.Errorf("%s %w", filepath.Join(folder, name), ErrThere)
		}
	}
	var written []string
	for _, name := range names {
		target := filepath.Join(folder, name)
		if err := create(target, contents[name], modes[name]); err != nil {
			return written, err
		}
		written = append(written, target)
	}
	// The schema may be there from another lab of the folder.
	schema := filepath.Join(folder, "lab.schema.json")
	if err := create(schema, shape.Schema(), 0o644); err == nil {
		written = append(written, schema)
	} else if !errors.Is(err, fs.ErrExist) {
		return written, err
	}
	return written, nil
}

// create writes a file that must not be there.
func create(target string, content []byte, mode fs.FileMode) error {
	if err := os.MkdirAll(filepath.Dir(target), 0o755); err != nil {
		return fmt.Errorf("making the lab's folder: %w", err)
	}
	file, err := os.OpenFile(target, os.O_CREATE|os.O_EXCL|os.O_WRONLY, mode)
	if err != nil {
		return fmt.Errorf("writing the lab: %w", err)
	}
	_, err = file.Write(content)
	return errors.Join(err, file.Close())
}
