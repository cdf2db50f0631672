package labfile_test

import (
	"encoding/json"
	"errors"
	"flag"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/tools/txtar"

	"kettlehole/internal/labfile"
)

var update = flag.Bool("update", false, "write the golden files anew")

// scripts stand beside every golden case.
func scripts(path string) ([]byte, error) {
	switch path {
	case "scripts/good.sh":
		return []byte("#!/bin/sh\necho good\n"), nil
	case "scripts/binary":
		return []byte{0x7f, 'E', 'L', 'F', 0}, nil
	}
	return nil, errors.New("no such file")
}

// Each golden case is one archive: a lab file, and the findings with, where
// there is no error, the lab as JSON after them.
func TestGolden(t *testing.T) {
	files, err := filepath.Glob("testdata/*.txtar")
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, file := range files {
		t.Run(strings.TrimSuffix(filepath.Base(file), ".txtar"), func(t *testing.T) {
			golden, err := txtar.ParseFile(file)
			require.NoError(t, err)
			require.Len(t, golden.Files, 2)
			input, expected := golden.Files[0].Data, string(golden.Files[1].Data)
			lab, findings := labfile.Parse(input, scripts)
			got := findings.Text("x.lab.yaml", input)
			if lab != nil {
				asJSON, err := json.MarshalIndent(lab, "", "  ")
				require.NoError(t, err)
				got += string(asJSON) + "\n"
			}
			if *update {
				golden.Files[1].Data = []byte(got)
				require.NoError(t, os.WriteFile(file, txtar.Format(golden), 0o644))
				return
			}
			assert.Equal(t, expected, got)
			assert.Equal(t, findings.Count(labfile.Error) > 0, lab == nil)
		})
	}
}

func TestWholeFileIsTold(t *testing.T) {
	_, findings := labfile.Parse([]byte("lab: Bad Name\ngroups:\n  web: {cont: 3, memory: lots}\nforwards: {a: 80 -> nobody-1:80}\n"), scripts)
	require.Len(t, findings, 4)
	for i := 1; i < len(findings); i++ {
		assert.LessOrEqual(t, findings[i-1].Pos.Line, findings[i].Pos.Line)
	}
	assert.Equal(t, "count", findings[1].Meant)
}

func TestSizes(t *testing.T) {
	for text, want := range map[string]labfile.Bytes{"256M": 256 * labfile.MiB, "1G": labfile.GiB, "1.5G": labfile.GiB + 512*labfile.MiB, "4K": 4 * labfile.KiB} {
		got, err := labfile.ParseBytes(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, got, text)
		assert.Equal(t, text, got.Short())
	}
	for _, text := range []string{"", "M", "256", "-1M", "256MB", "1e40G", "NaNM", "infG", "0M"} {
		_, err := labfile.ParseBytes(text)
		assert.Error(t, err, text)
	}
	for text, want := range map[string]labfile.Cores{"1": 1000, "0.5": 500, "0.01": 10, "64": 64000} {
		got, err := labfile.ParseCores(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, got)
		assert.Equal(t, text, got.String())
	}
	for _, text := range []string{"", "0", "-1", "many", "NaN", "1e9"} {
		_, err := labfile.ParseCores(text)
		assert.Error(t, err, text)
	}
	assert.Equal(t, "17.3 GiB", labfile.Bytes(18_576_000_000).String())
	assert.Equal(t, "512 B", labfile.Bytes(512).String())
}

func TestSelections(t *testing.T) {
	groups := []labfile.Group{{Name: "council", Count: 3}, {Name: "field", Count: 2}, {Name: "gate", Count: 1}, {Name: "none", Count: 0}}
	for text, want := range map[string]string{
		"all":                          "council-1 council-2 council-3 field-1 field-2 gate-1",
		"council":                      "council-1 council-2 council-3",
		"council-2":                    "council-2",
		"council-2..":                  "council-2 council-3",
		"council-1..2":                 "council-1 council-2",
		"gate, council-3":              "council-3 gate-1",
		"all except gate":              "council-1 council-2 council-3 field-1 field-2",
		"all except council-2.., gate": "council-1 field-1 field-2",
		"none":                         "",
		"council, council-1":           "council-1 council-2 council-3",
	} {
		s, err := labfile.ParseSelection(text)
		require.NoError(t, err, text)
		nodes, err := s.Nodes(groups)
		require.NoError(t, err, text)
		assert.Equal(t, want, strings.Join(nodes, " "), text)
	}
	for text, column := range map[string]int{"": 1, "council,": 9, "gate, Gate": 7, "council-3..2": 1, "all except ": 12, "a b": 1} {
		_, err := labfile.ParseSelection(text)
		var wrong *labfile.SelectionError
		require.ErrorAs(t, err, &wrong, text)
		assert.Equal(t, column, wrong.Column, text)
	}
	for text, column := range map[string]int{"all, council-4": 6, "filed": 1, "all except field-1..3": 12} {
		s, err := labfile.ParseSelection(text)
		require.NoError(t, err, text)
		_, err = s.Nodes(groups)
		var wrong *labfile.SelectionError
		require.ErrorAs(t, err, &wrong, text)
		assert.Equal(t, column, wrong.Column, text)
	}
}

func TestForwards(t *testing.T) {
	f, err := labfile.ParseForward("127.0.0.2:8080 -> gate-1:80")
	require.NoError(t, err)
	assert.Equal(t, "127.0.0.2 8080 gate-1 80", strings.Join([]string{f.Bind.String(), "8080", f.Node, "80"}, " "))
	f, err = labfile.ParseForward("auto -> gate-1:80")
	require.NoError(t, err)
	assert.Zero(t, f.Port)
	for _, text := range []string{"", "8080", "8080 -> gate-1", "-> gate-1:80", "0 -> gate-1:80", "70000 -> gate-1:80", "8080 -> gate-1:0", "nowhere:80 -> gate-1:80", "80 > gate-1:80"} {
		_, err := labfile.ParseForward(text)
		assert.Error(t, err, text)
	}
}

// Hostile input ends in findings within a bounded time, never in a panic.
func TestHostile(t *testing.T) {
	deep := strings.Repeat("{a: ", 2000) + "1" + strings.Repeat("}", 2000)
	for name, text := range map[string]string{
		"deep": "lab: x\ngroups: " + deep, "long line": "lab: " + strings.Repeat("x", 1<<20), "not text": "lab: \xff\xfe",
		"nothing": "", "only comments": "# a\n# b\n", "list": "- a\n- b\n", "two": "lab: a\n---\nlab: b\n", "tabs": "lab: x\ngroups:\n\tweb: {}\n",
		"aliases": "lab: x\na: &a [1]\nb: &b [*a, *a]\ngroups: *b\n", "self": "lab: x\ngroups: &g {a: *g}\n", "unfinished": "lab: {",
		"many": "lab: x\ngroups: {a: {count: 10000}}\nforwards: {f: 1 -> a-10000:1}\n",
	} {
		t.Run(name, func(t *testing.T) {
			began := time.Now()
			_, findings := labfile.Parse([]byte(text), scripts)
			findings.Text("x", []byte(text))
			assert.Less(t, time.Since(began), 20*time.Second)
			if name != "many" {
				assert.Positive(t, findings.Count(labfile.Error))
			}
		})
	}
}

func FuzzParse(f *testing.F) {
	files, _ := filepath.Glob("testdata/*.txtar")
	for _, file := range files {
		golden, err := txtar.ParseFile(file)
		require.NoError(f, err)
		f.Add(golden.Files[0].Data)
	}
	f.Fuzz(func(t *testing.T, source []byte) {
		lab, findings := labfile.Parse(source, scripts)
		if (lab == nil) != (findings.Count(labfile.Error) > 0) {
			t.Fatalf("a lab and errors, or neither: %v", findings)
		}
		findings.Text("x", source)
	})
}

func FuzzSelection(f *testing.F) {
	for _, seed := range []string{"all", "council-2..", "a, b except c-1..9"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		s, err := labfile.ParseSelection(text)
		if err == nil {
			_, _ = s.Nodes([]labfile.Group{{Name: "a", Count: 3}})
		}
	})
}
