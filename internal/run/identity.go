package run

import (
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"slices"

	"kettlehole/internal/labfile"
	"kettlehole/internal/plan"
)

// identity is a digest of everything that can change the result of a step on
// a node: the disk that it is on, what it does, what it takes, and those facts
// that its script, its services or its wait name. A node more elsewhere makes
// no step due that does not ask for it. The caller holds the lock.
func (r *Run) identity(step plan.Step, node plan.Node) string {
	digest := func(text string) string { return fmt.Sprintf("%x", sha256.Sum256([]byte(text))) }
	taken := map[string]string{}
	values := map[string]string{}
	for _, name := range step.Takes {
		taken[name], values[name] = digest(r.values[name]), r.values[name]
	}
	texts := []string{step.Script}
	var services []labfile.Service
	for _, s := range node.Services {
		if slices.Contains(step.Start, s.Name) {
			services, texts = append(services, s), append(texts, s.Run)
		}
	}
	if step.Wait != nil {
		texts = append(texts, step.Wait.Text)
	}
	var files []string
	for _, f := range step.Put {
		content := f.Content
		if f.Template {
			if filled, err := fill(r.Plan, node, f.Source, content, values); err == nil {
				content = filled
			}
		}
		files = append(files, f.Target, digest(string(content)))
		texts = append(texts, string(content))
	}
	text, err := json.Marshal([]any{r.Image, r.born[node.Name], step.Script, step.Gives, step.Start, step.Wait, step.Env, services, taken, files,
		plan.Named(Environment(r.Plan, node), texts)})
	if err != nil {
		panic(err) // plain data
	}
	return digest(string(text))
}
