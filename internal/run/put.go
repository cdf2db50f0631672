package run

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"text/template"

	"kettlehole/internal/agent"
	"kettlehole/internal/plan"
)

// put brings a step's files to a node, templates filled in.
func (r *Run) put(ctx context.Context, client agent.Client, step plan.Step, node plan.Node) error {
	r.mu.Lock()
	values := map[string]string{}
	for _, name := range step.Takes {
		values[name] = r.values[name]
	}
	r.mu.Unlock()
	var files []agent.File
	for _, f := range step.Put {
		one := agent.File{Path: f.Target, Content: f.Content}
		if f.Template {
			filled, err := fill(r.Plan, node, f.Source, f.Content, values)
			if err != nil {
				return err
			}
			one.Content = filled
		}
		one.Mode = modeOf(one.Content)
		files = append(files, one)
	}
	if _, err := client.Do(ctx, agent.Request{Op: agent.OpPut, Files: files}); err != nil {
		return fmt.Errorf("putting files: %w", err)
	}
	return nil
}

// modeOf is the mode of a file that is put: scripts can be run.
func modeOf(content []byte) uint32 {
	if bytes.HasPrefix(content, []byte("#!")) {
		return 0o755
	}
	return 0o644
}

// fill makes a file from a template. Its data are the node's facts, by the
// names that they have in /run/kettlehole/lab.json, and under "values" the
// values that the step takes.
func fill(p *plan.Plan, node plan.Node, name string, content []byte, values map[string]string) ([]byte, error) {
	t, err := template.New(name).Option("missingkey=error").Parse(string(content))
	if err != nil {
		return nil, fmt.Errorf("reading template %s: %w", name, err)
	}
	var data map[string]any
	if err := json.Unmarshal(Facts(p, node), &data); err != nil {
		return nil, fmt.Errorf("filling template %s: %w", name, err)
	}
	taken := map[string]any{}
	for name, value := range values {
		taken[name] = value
	}
	data["values"] = taken
	var b bytes.Buffer
	if err := t.Execute(&b, data); err != nil {
		return nil, fmt.Errorf("filling template: %w", err)
	}
	return b.Bytes(), nil
}
