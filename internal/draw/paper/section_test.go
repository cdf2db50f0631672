package paper_test

import (
	"bytes"
	"compress/zlib"
	"encoding/xml"
	"fmt"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kettlehole/internal/draw/paper"
	"kettlehole/internal/labfile"
	"kettlehole/internal/plan"
	"kettlehole/internal/workstation"
)

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

func planOf(t require.TestingT, text string) *plan.Plan {
	lab, findings := labfile.Parse([]byte(text), nil)
	require.NotNil(t, lab, findings.Text("x", []byte(text)))
	p, findings := plan.Make(lab, plan.Where{}, workstation.Facts{}, nil)
	require.NotNil(t, p, findings.Text("x", []byte(text)))
	return p
}

// drawLab is a lab of up to 100 nodes.
func drawLab(t *rapid.T) string {
	var b strings.Builder
	fmt.Fprintf(&b, "lab: drawn\nabout: %s\nnetworks:\n", strings.Repeat("word ", rapid.IntRange(1, 80).Draw(t, "words")))
	networks := rapid.IntRange(1, 4).Draw(t, "networks")
	for i := range networks {
		fmt.Fprintf(&b, "  %s%d: {subnet: auto}\n", rapid.StringMatching(`[a-z]{1,20}`).Draw(t, "name"), i)
	}
	text := b.String()
	var names []string
	for line := range strings.Lines(text[strings.Index(text, "networks:")+10:]) {
		names = append(names, strings.TrimSpace(strings.SplitN(line, ":", 2)[0]))
	}
	left := 100
	b.WriteString("groups:\n")
	var forwards []string
	for i := range rapid.IntRange(1, 6).Draw(t, "groups") {
		count := rapid.IntRange(1, max(left/2, 1)).Draw(t, "count")
		left -= count
		group := fmt.Sprintf("%s%c", rapid.StringMatching(`[a-z]{1,16}`).Draw(t, "group"), 'a'+i)
		fmt.Fprintf(&b, "  %s: {count: %d, networks: [%s], services: {%s: {run: x}}}\n", group, count, strings.Join(names[:rapid.IntRange(1, networks).Draw(t, "taps")], ", "), rapid.StringMatching(`[a-z]{1,30}`).Draw(t, "service"))
		for range rapid.IntRange(0, 3).Draw(t, "forwards") {
			forwards = append(forwards, fmt.Sprintf("  f%d%s: auto -> %s-%d:80\n", len(forwards), rapid.StringMatching(`[a-z]{0,12}`).Draw(t, "forward"), group, count))
		}
	}
	if len(forwards) > 0 {
		b.WriteString("forwards:\n" + strings.Join(forwards, ""))
	}
	return b.String()
}

// No label lies on another one or leaves the sheet, whatever the lab.
func TestLabelsAreDisjoint(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		p := planOf(t, drawLab(t))
		s := paper.Section(p, noon)
		for i, a := range s.Labels {
			require.True(t, a.X >= 0 && a.Y >= 0 && a.X+a.W <= s.Width+0.01 && a.Y+a.H <= s.Height+0.01, "%q leaves the sheet", a.Text)
			for _, b := range s.Labels[:i] {
				apart := a.X+a.W <= b.X || b.X+b.W <= a.X || a.Y+a.H <= b.Y || b.Y+b.H <= a.Y
				require.True(t, apart, "%q and %q lie on one another", a.Text, b.Text)
			}
		}
		all := map[string]bool{}
		for _, l := range s.Labels {
			all[l.Text] = true
		}
		for _, n := range p.Nodes {
			require.True(t, all[n.Name], "%s is nowhere", n.Name)
		}
	})
}

const desk = `
lab: desk
about: Wörter & <signs> — and … more.
networks: {valley: {subnet: 10.61.0.0/24}}
groups: {council: {count: 3, networks: {valley: .11}}}
forwards: {door: 8080 -> council-1:80}
`

// unpacked gives the streams of a PDF file that are packed (PDF 1.7, section
// 7.4.4), one after the other.
func unpacked(t *testing.T, pdf []byte) string {
	var all strings.Builder
	for _, part := range bytes.Split(pdf, []byte("stream\n"))[1:] {
		unpacker, err := zlib.NewReader(bytes.NewReader(part))
		if err != nil {
			continue // this one is not packed
		}
		_, _ = io.Copy(&all, unpacker) // what follows the stream ends it
	}
	require.NotZero(t, all.Len())
	return all.String()
}

// Text stays text, in both formats, and what is written is whole.
func TestFormats(t *testing.T) {
	s := paper.Section(planOf(t, desk), noon)
	var svg bytes.Buffer
	require.NoError(t, s.Write(&svg, "svg"))
	var texts []string
	for decoder := xml.NewDecoder(&svg); ; {
		token, err := decoder.Token()
		if err == io.EOF {
			break
		}
		require.NoError(t, err)
		if chars, is := token.(xml.CharData); is && strings.TrimSpace(string(chars)) != "" {
			texts = append(texts, string(chars))
		}
	}
	for _, want := range []string{"desk", "council-3", "10.61.0.0/24", ".12", ":8080", "2026-11-23", "valley 10.61.0.13", "127.0.0.1:8080", "Wörter & <signs> - and · more."} {
		assert.Contains(t, texts, want)
	}
	var pdf bytes.Buffer
	require.NoError(t, s.Write(&pdf, "pdf"))
	assert.True(t, bytes.HasPrefix(pdf.Bytes(), []byte("%PDF-")))
	assert.Contains(t, pdf.String(), "/FontFile2", "letters are embedded as letters")
	assert.NotContains(t, pdf.String(), "/Subtype /Image")
	assert.Contains(t, unpacked(t, pdf.Bytes()), "W\xf6rter & <signs> - and \xb7 more.", "letters beyond ASCII are those of the font")
	assert.ErrorContains(t, s.Write(&pdf, "bmp"), "those are svg, pdf")
}
