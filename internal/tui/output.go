package tui

import (
	"bufio"
	"context"
	"fmt"
	"strings"
	"sync"
	"time"

	"kettlehole/internal/run"
)

// outputLines bounds how many lines of a log are kept for the screen.
const outputLines = 2000

// source names a log of a node.
type source struct{ lab, node, name string }

// output follows the log that is looked at.
type output struct {
	app    *App
	source source
	cancel context.CancelFunc
	busy   sync.WaitGroup
}

type logLine struct {
	at   time.Time // zero where the line bears none
	text string
}

type outputMsg struct {
	source source
	lines  []string
}

func newOutput(a *App) *output { return &output{app: a} }

func (o *output) wait() {
	if o.cancel != nil {
		o.cancel()
	}
	o.busy.Wait()
}

// chooseOutput follows what the current view looks at.
func (a *App) chooseOutput() {
	want := source{}
	if w := &a.world; w.lives() {
		switch v := a.views[a.current].(type) {
		case *runView:
			if c, ok := v.cell(w); ok && c.Run > 0 && c.Step != "" && !v.state(w).Run.Rehearsed {
				want = source{w.lab, c.Node, run.JobName(c.Run, c.Step)}
			}
		case *nodesView:
			if n, ok := v.node(w); ok && len(n.Services) > 0 {
				want = source{w.lab, n.Name, n.Services[0].Service}
			}
		}
	}
	a.output.follow(want)
}

func (o *output) follow(want source) {
	if want == o.source {
		return
	}
	if o.cancel != nil {
		o.cancel()
	}
	o.source, o.app.world.output = want, nil
	if want == (source{}) {
		return
	}
	ctx, cancel := context.WithCancel(o.app.ctx)
	o.cancel = cancel
	o.busy.Go(func() { o.run(ctx, want) })
}

// run reads a log as it grows and passes it on in lumps, so that a program
// that prints much does not drown the screen. A log that is not there yet is
// waited for.
func (o *output) run(ctx context.Context, from source) {
	for ctx.Err() == nil {
		log, err := o.app.options.Station.Open(from.lab).Logs(ctx, from.node, from.name, true, true)
		if err == nil {
			lines := make(chan string, 1000)
			o.busy.Go(func() {
				defer close(lines)
				defer log.Close()
				reader := bufio.NewReaderSize(log, 64<<10)
				for {
					line, isPrefix, err := reader.ReadLine()
					if err != nil {
						return
					}
					if isPrefix && len(line) > 4<<10 {
						line = line[:4<<10]
					}
					select {
					case lines <- string(line):
					case <-ctx.Done():
						return
					}
				}
			})
			o.pass(from, lines)
		}
		select {
		case <-ctx.Done():
		case <-time.After(200 * time.Millisecond):
		}
	}
}

// pass sends lines on, at most thirty times a second.
func (o *output) pass(from source, lines <-chan string) {
	for line := range lines {
		lump := []string{line}
		timer := time.After(33 * time.Millisecond)
	more:
		for {
			select {
			case next, ok := <-lines:
				if !ok {
					break more
				}
				if lump = append(lump, next); len(lump) > outputLines {
					lump = lump[len(lump)-outputLines:]
				}
			case <-timer:
				break more
			}
		}
		o.app.send(outputMsg{from, lump})
	}
}

// take adds lines to those on the screen.
func (o *output) take(msg outputMsg) {
	if msg.source != o.source {
		return
	}
	for _, line := range msg.lines {
		o.app.world.output = append(o.app.world.output, newLogLine(line))
	}
	if lines := o.app.world.output; len(lines) > outputLines {
		o.app.world.output = append([]logLine(nil), lines[len(lines)-outputLines:]...)
	}
}

// newLogLine reads a line of a log, which bears the time at its head.
func newLogLine(line string) logLine {
	one := logLine{text: strings.ToValidUTF8(line, "\uFFFD")}
	if stamp, rest, found := strings.Cut(one.text, " "); found {
		if at, err := time.Parse("2006-01-02T15:04:05.000Z", stamp); err == nil {
			one = logLine{at, rest}
		}
	}
	one.text = strings.ReplaceAll(one.text, "\t", "    ")
	return one
}

// since says when a line was printed, in seconds after a beginning.
func (l logLine) since(begin time.Time) string {
	if l.at.IsZero() {
		return ""
	}
	return fmt.Sprintf("%.2f", max(l.at.Sub(begin), 0).Seconds())
}
