package labfile_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"kettlehole/internal/labfile"
)

// large is a lab of 1,000 nodes, 500 steps and 5,000 forwards.
func large() []byte {
	var b strings.Builder
	b.WriteString("lab: large\ngroups:\n")
	for i := range 20 {
		fmt.Fprintf(&b, "  g%c:\n    count: 50\n    memory: 64M\n    services:\n      door: {run: door --listen :80}\n", 'a'+i)
	}
	b.WriteString("forwards:\n")
	for i := range 5000 {
		fmt.Fprintf(&b, "  f%d: %d -> g%c-%d:80\n", i, 10000+i, 'a'+i%20, i%50+1)
	}
	b.WriteString("steps:\n")
	for i := range 500 {
		fmt.Fprintf(&b, "  s%d:\n    on: g%c-2..\n    start: door\n    run: echo %d\n", i, 'a'+i%20, i)
		if i > 20 {
			fmt.Fprintf(&b, "    after: [s%d]\n", i-20)
		}
	}
	return []byte(b.String())
}

const small = `lab: desk
about: A small one.
inputs: {count: 2}
networks:
  valley: {subnet: 10.61.0.0/24}
groups:
  council:
    count: 3
    memory: 256M
    networks: {valley: .11}
  field:
    count: ${count}
forwards:
  door: 8080 -> council-1:80
steps:
  prepare:
    on: all
    run: echo hello
  door:
    on: council
    wait: {port: 80}
`

func BenchmarkLarge(b *testing.B) {
	source := large()
	lab, findings := labfile.Parse(source, scripts)
	require.NotNil(b, lab, findings.Text("large", source))
	for b.Loop() {
		labfile.Parse(source, scripts)
	}
}

func BenchmarkSmall(b *testing.B) {
	lab, findings := labfile.Parse([]byte(small), scripts)
	require.NotNil(b, lab, findings.Text("small", []byte(small)))
	for b.Loop() {
		labfile.Parse([]byte(small), scripts)
	}
}

// BenchmarkHostile gives the time for 10 KB of each hostile text.
func BenchmarkHostile(b *testing.B) {
	for name, text := range hostile() {
		b.Run(strings.ReplaceAll(name, " ", "-"), func(b *testing.B) {
			for b.Loop() {
				labfile.Parse([]byte(text), scripts)
			}
			b.ReportMetric(b.Elapsed().Seconds()*1000/float64(b.N)/max(float64(len(text))/10_000, 1), "ms/10KB")
		})
	}
}
