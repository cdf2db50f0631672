package container

import (
	"crypto/rand"
	"encoding/json"
	"fmt"
	"os"
	"slices"

	"kettlehole/internal/fabric"
	"kettlehole/internal/substrate"
)

// imprint is what cannot be changed of a node once it is made. It lies beside
// the node's disk and lives as long.
type imprint struct {
	Born   string        `json:"born"` // of the disk, different for each that was ever made
	Links  []fabric.Link `json:"links"`
	Layers []string      `json:"layers"`
}

const imprintFile = "made.json"

// is tells whether the node is still to be as it was made.
func (i imprint) is(node substrate.Node) bool {
	return slices.Equal(i.Links, node.Links) && slices.Equal(i.Layers, node.Layers)
}

// imprint reads how a node was made; the zero value where it was not, or not
// to the end.
func (w *inside) imprint(node string) imprint {
	var i imprint
	text, err := os.ReadFile(w.disk(node, imprintFile))
	if err != nil || json.Unmarshal(text, &i) != nil {
		return imprint{}
	}
	return i
}

// freshDisk makes the folder of a node's disk, empty, in place of what was
// there.
func (w *inside) freshDisk(node substrate.Node) (imprint, error) {
	i := imprint{Born: rand.Text(), Links: node.Links, Layers: node.Layers}
	folder := w.disk(node.Name)
	text, err := json.Marshal(i)
	if err == nil {
		err = os.RemoveAll(folder)
	}
	if err == nil {
		err = os.MkdirAll(folder, 0o700)
	}
	if err == nil {
		err = os.WriteFile(w.disk(node.Name, imprintFile), text, 0o600)
	}
	if err != nil {
		return imprint{}, fmt.Errorf("making the disk of %s: %w", node.Name, err)
	}
	return i, nil
}
