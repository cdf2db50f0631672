package shape_test

import (
	"bytes"
	"errors"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"
	"golang.org/x/tools/txtar"

	"kettlehole/internal/labfile"
	"kettlehole/internal/labfile/shape"
	"kettlehole/internal/testbed"
)

var update = flag.Bool("update", false, "write the files that are made from the types anew")

func compiled(t *testing.T) *jsonschema.Schema {
	document, err := jsonschema.UnmarshalJSON(bytes.NewReader(shape.Schema()))
	require.NoError(t, err)
	c := jsonschema.NewCompiler()
	require.NoError(t, c.AddResource("lab.schema.json", document))
	s, err := c.Compile("lab.schema.json")
	require.NoError(t, err)
	return s
}

// value reads YAML as an editor would.
func value(t *testing.T, source []byte) any {
	var v any
	require.NoError(t, yaml.Unmarshal(source, &v))
	return v
}

// Every example and every good golden file is right by the schema.
func TestSchemaAcceptsWhatTheParserAccepts(t *testing.T) {
	s := compiled(t)
	goldens, err := filepath.Glob("../testdata/*.txtar")
	require.NoError(t, err)
	accepted := 0
	for _, file := range goldens {
		archive, err := txtar.ParseFile(file)
		require.NoError(t, err)
		expected := archive.Files[len(archive.Files)-1].Data
		if bytes.Contains(expected, []byte(": error: ")) {
			continue
		}
		accepted++
		source := bytes.TrimPrefix(archive.Files[0].Data, []byte("\uFEFF"))
		assert.NoError(t, s.Validate(value(t, source)), file)
	}
	assert.Greater(t, accepted, 60)
	examples, err := filepath.Glob(filepath.Join(testbed.Root(), "examples/*/*.lab.yaml"))
	require.NoError(t, err)
	starters, err := filepath.Glob(filepath.Join(testbed.Root(), "internal/starter/files/*/*.lab.yaml"))
	require.NoError(t, err)
	require.NotEmpty(t, examples)
	require.NotEmpty(t, starters)
	for _, file := range append(examples, starters...) {
		source, err := os.ReadFile(file)
		require.NoError(t, err)
		assert.NoError(t, s.Validate(value(t, source)), file)
		assert.True(t, strings.HasPrefix(string(source), "# yaml-language-server: $schema=lab.schema.json\n"), "%s has no modeline", file)
	}
}

// What is wrong by its form alone is wrong by the schema too.
func TestSchemaRejects(t *testing.T) {
	s := compiled(t)
	for _, name := range []string{
		"unknown-keys", "wrong-types", "no-name", "no-groups", "names", "group-count-huge", "group-count-word", "group-substrate-wrong",
		"group-key-elsewhere", "key-of-group-at-top", "input-default-missing", "input-key-unknown", "input-name", "forward-no-arrow", "forward-no-node",
		"forward-no-port", "forward-not-text", "step-name", "step-on-missing", "step-block-is-list", "step-selection-not-text", "step-within-wrong",
		"step-at-once-wrong", "step-retry-wrong", "check-status-wrong", "check-key-unknown", "front-incomplete", "front-health-wrong",
		"image-key-unknown", "network-auto-misspelt", "service-key-unknown", "service-name", "yaml-list", "yaml-scalar", "small-memory",
	} {
		archive, err := txtar.ParseFile("../testdata/" + name + ".txtar")
		require.NoError(t, err)
		var wrong *jsonschema.ValidationError
		assert.True(t, errors.As(s.Validate(value(t, archive.Files[0].Data)), &wrong), "%s is right by the schema", name)
	}
}

// The parser knows every key of the types, and the types every key of the
// parser: a key that only one of them has would be an unknown key or one
// without a description.
func TestParserKnowsTheKeys(t *testing.T) {
	frames := map[string]string{
		"": "%s: x\n", "inputs": "inputs: {a: {%s: x}}\n", "networks": "networks: {a: {%s: x}}\n", "images": "images: {a: {%s: x}}\n",
		"groups": "groups: {a: {%s: x}}\n", "groups, services": "groups: {a: {services: {b: {%s: x}}}}\n", "fronts": "fronts: {a: {%s: x}}\n",
		"fronts, healthy": "fronts: {a: {healthy: {%s: x}}}\n", "steps": "steps: {a: {%s: x}}\n", "steps, retry": "steps: {a: {retry: {%s: x}}}\n",
		"steps, wait": "steps: {a: {wait: {%s: x}}}\n", "retrieve": "retrieve: {a: {%s: x}}\n", "checks": "checks: {a: {%s: x}}\n", "drills": "drills: {a: {%s: x}}\n",
	}
	sections := append([]shape.Section{{Name: ""}}, shape.Sections()...)
	require.Len(t, frames, len(sections))
	says := func(frame, key string) string {
		source := []byte(fmt.Sprintf(frame, key))
		_, findings := labfile.Parse(source, func(string) ([]byte, error) { return nil, errors.New("none") })
		return findings.Text("x", source)
	}
	for _, section := range sections {
		keys := shape.Keys[shape.File]()
		if section.Type != nil {
			keys = nil
			for i := range section.Type.NumField() {
				name, _, _ := strings.Cut(section.Type.Field(i).Tag.Get("json"), ",")
				keys = append(keys, name)
				assert.NotEmpty(t, section.Type.Field(i).Tag.Get("jsonschema_description"), "%s: %s", section.Name, name)
			}
		}
		for _, key := range keys {
			assert.NotContains(t, says(frames[section.Name], key), fmt.Sprintf("has no %q", key), "%s: %s", section.Name, key)
		}
		assert.Contains(t, says(frames[section.Name], "nonsense"), `has no "nonsense"`)
	}
}

// What is made from the types is current. Run with -update, or make docs,
// after a change.
func TestMadeFilesAreCurrent(t *testing.T) {
	made := map[string]string{
		"docs/lab-file.md":                        shape.Reference(),
		"examples/avalanche-desk/lab.schema.json": string(shape.Schema()),
	}
	for name, want := range made {
		path := filepath.Join(testbed.Root(), name)
		if *update {
			require.NoError(t, os.WriteFile(path, []byte(want), 0o644))
		}
		have, err := os.ReadFile(path)
		require.NoError(t, err)
		assert.Equal(t, want, string(have), "%s is old; run make docs", name)
	}
}
