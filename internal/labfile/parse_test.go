package labfile_test

import (
	"bytes"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	"kettlehole/internal/labfile"
)

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
	f, _, err := labfile.ParseForward("127.0.0.2:8080 -> gate-1:80")
	require.NoError(t, err)
	assert.Equal(t, "127.0.0.2 8080 gate-1 80", strings.Join([]string{f.Bind.String(), "8080", f.Node, "80"}, " "))
	f, _, err = labfile.ParseForward("auto -> gate-1:80")
	require.NoError(t, err)
	assert.Zero(t, f.Port)
	for _, text := range []string{"", "8080", "8080 -> gate-1", "-> gate-1:80", "0 -> gate-1:80", "70000 -> gate-1:80", "8080 -> gate-1:0", "nowhere:80 -> gate-1:80", "80 > gate-1:80"} {
		_, _, err := labfile.ParseForward(text)
		assert.Error(t, err, text)
	}
}

// hostile are texts that try a reader's bounds.
func hostile() map[string]string {
	bomb := "lab: x\na0: &a0 {x: 1}\n"
	for i := range 30 {
		bomb += fmt.Sprintf("a%d: &a%d {<<: [*a%d, *a%d], y%d: 1}\n", i+1, i+1, i, i, i)
	}
	return map[string]string{
		"deep":          "lab: x\ngroups: " + strings.Repeat("{a: ", 2000) + "1" + strings.Repeat("}", 2000),
		"deep list":     "lab: " + strings.Repeat("[", 5000),
		"deep block":    "lab: x\ngroups:\n" + deepBlock(400),
		"long line":     "lab: " + strings.Repeat("x", 1<<20),
		"long key":      strings.Repeat("x", 1<<20) + ": 1",
		"not text":      "lab: \xff\xfe",
		"nothing":       "",
		"only comments": "# a\n# b\n",
		"list":          "- a\n- b\n",
		"two":           "lab: a\n---\nlab: b\n",
		"tabs":          "lab: x\ngroups:\n\tweb: {}\n",
		"aliases":       "lab: x\na: &a [1]\nb: &b [*a, *a]\ngroups: *b\n",
		"bomb":          bomb + "groups: {<<: *a30}\n",
		"self":          "lab: x\ngroups: &g {a: *g}\n",
		"merge self":    "lab: x\ngroups: &g {<<: *g}\n",
		"unfinished":    "lab: {",
		"many keys":     "lab: x\n" + strings.Repeat("a:\n", 3000),
		"many unknown":  "lab: x\ngroups:\n" + manyUnknown(2000),
		"many quotes":   "lab: " + strings.Repeat("\"'", 5000),
		"many anchors":  "lab: [" + strings.Repeat("&a *a, ", 1500) + "]",
		"many nodes":    "lab: x\ngroups: {a: {count: 10000}}\nsteps: {s: {on: a-1.., run: x, gives: [v]}}\n",
		"many missing":  "lab: x\ngroups: {a: {count: 10000}}\nforwards:\n" + manyMissing(400),
		"many inputs":   "lab: x\nabout: " + strings.Repeat("${x}", 2500) + "\ninputs: {x: " + strings.Repeat("y", 5000) + "}\ngroups: {a: {}}\n",
	}
}

func deepBlock(n int) string {
	var b strings.Builder
	for i := range n {
		b.WriteString(strings.Repeat(" ", i+1) + "a:\n")
	}
	return b.String()
}

func manyUnknown(n int) string {
	var b strings.Builder
	for i := range n {
		fmt.Fprintf(&b, "  g%da: {cuont%d: 1}\n", i, i)
	}
	return b.String()
}

func manyMissing(n int) string {
	var b strings.Builder
	for i := range n {
		fmt.Fprintf(&b, "  f%d: %d -> b-%d:1\n", i, i+1, i+1)
	}
	return b.String()
}

// Hostile input ends in findings within a bounded time, never in a panic. The
// bound here is far above what BenchmarkHostile measures.
func TestHostile(t *testing.T) {
	for name, text := range hostile() {
		t.Run(name, func(t *testing.T) {
			began := time.Now()
			_, findings := labfile.Parse([]byte(text), scripts)
			findings.Text("x", []byte(text))
			assert.Less(t, time.Since(began), 20*time.Second)
			assert.Equal(t, name != "many inputs", findings.Count(labfile.Error) > 0)
		})
	}
}

// The order of keys changes nothing but the order of findings.
func TestKeyOrder(t *testing.T) {
	var spell func(n *yaml.Node)
	spell = func(n *yaml.Node) { // nothing at all is printed as an empty text
		if n.Tag == "!!null" {
			n.Value = "null"
		}
		for _, inner := range n.Content {
			spell(inner)
		}
	}
	shuffle := func(random *rand.Rand, n *yaml.Node) {
		if n.Kind != yaml.MappingNode {
			return
		}
		random.Shuffle(len(n.Content)/2, func(i, j int) {
			n.Content[2*i], n.Content[2*j] = n.Content[2*j], n.Content[2*i]
			n.Content[2*i+1], n.Content[2*j+1] = n.Content[2*j+1], n.Content[2*i+1]
		})
	}
	said := func(findings labfile.Findings) []string {
		var all []string
		for _, f := range findings {
			all = append(all, fmt.Sprint(f.Severity, f.Message, f.Meant, f.Remedy))
		}
		slices.Sort(all)
		return all
	}
	random := rand.New(rand.NewPCG(1, 2))
	for _, file := range goldens(t) {
		g := readGolden(t, file)
		var document yaml.Node
		if yaml.Unmarshal(g.input, &document) != nil || bytes.ContainsAny(g.input, "&*") || strings.Contains(file, "duplicate") || strings.Contains(file, "two-documents") || document.Content == nil {
			continue // anchors stand before what uses them
		}
		// Keys of the language are shuffled, names are not: their order means
		// something.
		top := document.Content[0]
		for i := 1; i < len(top.Content); i += 2 {
			for j := 1; j < len(top.Content[i].Content); j += 2 {
				shuffle(random, top.Content[i].Content[j])
			}
		}
		shuffle(random, top)
		spell(&document)
		text, err := yaml.Marshal(&document)
		require.NoError(t, err)
		before, was := labfile.Parse(g.input, g.read, g.given...)
		after, is := labfile.Parse(text, g.read, g.given...)
		require.Equal(t, said(was), said(is), "%s\n%s", file, text)
		if before != nil {
			require.Equal(t, asJSON(t, before), asJSON(t, after), file)
		}
	}
}

func FuzzParse(f *testing.F) {
	for _, file := range goldens(f) {
		f.Add(readGolden(f, file).input)
	}
	f.Fuzz(func(t *testing.T, source []byte) {
		lab, findings := labfile.Parse(source, scripts)
		if (lab == nil) != (findings.Count(labfile.Error) > 0) {
			t.Fatalf("a lab and errors, or neither: %v", findings)
		}
		findings.Text("x", source)
		if lab == nil {
			return
		}
		printed, err := labfile.Print(lab)
		if err != nil {
			t.Fatal(err)
		}
		again, findings := labfile.Parse(printed, scripts)
		if again == nil {
			t.Fatalf("what was printed is not read again:\n%s\n%s", findings.Text("x", printed), printed)
		}
		if was, is := asJSON(t, lab), asJSON(t, again); was != is {
			t.Fatalf("printed and read again it is another lab:\n%s\n%s\n%s", printed, was, is)
		}
	})
}

func FuzzSelection(f *testing.F) {
	for _, seed := range []string{"all", "council-2..", "a, b except c-1..9", "a-1..2,a-3", "all except a-1"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		s, err := labfile.ParseSelection(text)
		var wrong *labfile.SelectionError
		if err != nil && (!errors.As(err, &wrong) || wrong.Column < 1 || wrong.Column > utf8.RuneCountInString(text)+1) {
			t.Fatalf("%q: a mistake outside of the text: %+v", text, wrong)
		}
		if err == nil {
			_, _ = s.Nodes([]labfile.Group{{Name: "a", Count: 3}, {Name: "b", Count: 0}})
		}
	})
}

func FuzzForward(f *testing.F) {
	for _, seed := range []string{"8080 -> gate-1:80", "auto -> gate-1:80-81/udp", "[::1]:1-2 -> g-1:3-4", "127.0.0.2:80 -> g-1:80/tcp"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		one, _, err := labfile.ParseForward(text)
		var wrong *labfile.ForwardError
		if err != nil {
			if !errors.As(err, &wrong) || wrong.Column < 1 || wrong.Column > utf8.RuneCountInString(text)+1 {
				t.Fatalf("%q: a mistake outside of the text: %+v", text, wrong)
			}
			return
		}
		again, _, err := labfile.ParseForward(one.String())
		if err != nil || again != one {
			t.Fatalf("%q: %+v is printed as %q and read as %+v, %v", text, one, one, again, err)
		}
	})
}

func FuzzSizes(f *testing.F) {
	for _, seed := range []string{"256M", "1.5G", "0.5", "30s", "1m30s", "4K", "24h", "500ms"} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		if size, err := labfile.ParseBytes(text); err == nil && size < 0 {
			t.Fatalf("%q is %d bytes", text, size)
		}
		if cores, err := labfile.ParseCores(text); err == nil {
			if again, err := labfile.ParseCores(cores.String()); err != nil || again != cores {
				t.Fatalf("%q is %v cores, read again %v", text, cores, again)
			}
		}
		if d, err := labfile.ParseDuration(text); err == nil {
			if again, err := labfile.ParseDuration(d.String()); err != nil || again != d {
				t.Fatalf("%q is %v, read again %v", text, d, again)
			}
		}
	})
}
