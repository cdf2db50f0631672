package keeper

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"kettlehole/internal/api"
	"kettlehole/internal/home"
	"kettlehole/internal/plan"
)

const (
	// writtenFile remembers what was retrieved, in the lab's folder.
	writtenFile = "retrieved.json"
	// longestRetrieved bounds a file that is retrieved, in bytes.
	longestRetrieved = 64 << 20
)

// retrieve brings the files that the lab wants on the workstation there. One
// that somebody changed meanwhile is left alone, with an error.
func (k *Keeper) retrieve(ctx context.Context, p *plan.Plan) error {
	if len(p.Retrieves) == 0 {
		k.board.change(func(s *api.State) { s.Retrieved = nil })
		return nil
	}
	record := filepath.Join(k.folder(), writtenFile)
	written := map[string]string{} // name to digest
	if text, err := os.ReadFile(record); err == nil {
		if err := json.Unmarshal(text, &written); err != nil {
			return fmt.Errorf("reading what was retrieved: %w", err)
		}
	}
	path := filepath.Join(k.folder(), home.Retrieved)
	if err := os.MkdirAll(path, 0o700); err != nil {
		return fmt.Errorf("retrieving: %w", err)
	}
	folder, err := os.OpenRoot(path)
	if err != nil {
		return fmt.Errorf("retrieving: %w", err)
	}
	defer folder.Close()
	var all []error
	var shown []api.Retrieved
	for _, one := range p.Retrieves {
		digest, err := k.retrieveOne(ctx, folder, one, written[one.Name])
		state := api.Retrieved{Name: one.Name, Path: filepath.Join(path, one.Name)}
		if err != nil {
			state.Reason = err.Error()
			all = append(all, fmt.Errorf("retrieving %s from %s:%s: %w", one.Name, one.Node, one.Path, err))
		} else {
			written[one.Name] = digest
		}
		shown = append(shown, state)
	}
	k.board.change(func(s *api.State) { s.Retrieved = shown })
	text, err := json.Marshal(written)
	if err == nil {
		err = os.WriteFile(record, text, 0o600)
	}
	return errors.Join(append(all, err)...)
}

// errChanged says that a file is not as it was written.
var errChanged = errors.New("the file here was changed since it was written; move it away and provision again")

// retrieveOne brings one file, and gives its digest. before is the digest of
// what was written last, "" for nothing.
func (k *Keeper) retrieveOne(ctx context.Context, folder *os.Root, one plan.Retrieve, before string) (string, error) {
	have, err := folder.ReadFile(one.Name)
	if err == nil && digest(have) != before {
		return "", errChanged
	} else if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return "", err
	}
	text, err := k.readFile(ctx, one.Node, one.Path)
	if err != nil {
		return "", err
	}
	for _, r := range one.Replace {
		text = bytes.ReplaceAll(text, []byte(r.Text), []byte(r.By))
	}
	if err := folder.MkdirAll(filepath.Dir(one.Name), 0o700); err != nil {
		return "", err
	}
	half := one.Name + ".half"
	if err := folder.WriteFile(half, text, 0o600); err != nil {
		return "", err
	}
	if err := folder.Rename(half, one.Name); err != nil {
		return "", err
	}
	return digest(text), nil
}

// readFile reads a file of a node.
func (k *Keeper) readFile(ctx context.Context, node, path string) ([]byte, error) {
	passing, err := os.MkdirTemp(k.folder(), "retrieve-*")
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(passing)
	into, err := os.OpenRoot(passing)
	if err != nil {
		return nil, err
	}
	defer into.Close()
	if _, err := k.containers.Agent(node).Fetch(ctx, []string{path}, into, "file", nil); err != nil {
		return nil, err
	}
	info, err := into.Lstat("file")
	switch {
	case err != nil:
		return nil, err
	case !info.Mode().IsRegular():
		return nil, errors.New("it is no file")
	case info.Size() > longestRetrieved:
		return nil, fmt.Errorf("it has %d bytes, more than the %d that are retrieved", info.Size(), longestRetrieved)
	}
	return into.ReadFile("file")
}

func digest(text []byte) string {
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:])
}

// showRetrieved puts on the board what an earlier keeper retrieved.
func (k *Keeper) showRetrieved(p *plan.Plan) {
	var all []api.Retrieved
	for _, one := range p.Retrieves {
		state := api.Retrieved{Name: one.Name, Path: filepath.Join(k.folder(), home.Retrieved, one.Name)}
		if _, err := os.Lstat(state.Path); err != nil {
			state.Reason = "not retrieved yet"
		}
		all = append(all, state)
	}
	k.board.change(func(s *api.State) { s.Retrieved = all })
}
