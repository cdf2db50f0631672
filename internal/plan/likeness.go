package plan

import (
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"slices"

	"kettlehole/internal/labfile"
)

// NodeLikeness is under which the times of making one node are remembered,
// and GroundLikeness those of what comes before the first.
const (
	NodeLikeness   = "node"
	GroundLikeness = "ground"
)

// Likeness is a digest of what makes a step take as long as it does, on any
// node like this one, of any lab: under it times are remembered.
func Likeness(step Step, node Node) string {
	var services []labfile.Service
	for _, s := range node.Services {
		if slices.Contains(step.Start, s.Name) {
			services = append(services, s)
		}
	}
	text, err := json.Marshal([]any{"container", node.Image, node.CPU, step.Script, step.Put, step.Env, step.Start, step.Wait, services})
	if err != nil {
		panic(err) // plain data
	}
	return fmt.Sprintf("%x", sha256.Sum256(text))
}
