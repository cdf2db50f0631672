package tui

import (
	"math"
	"path/filepath"
	"slices"
	"strconv"
	"unicode/utf8"

	tea "charm.land/bubbletea/v2"

	"kettlehole/internal/labfile"
)

func (v *planView) press(a *App, key string) (tea.Cmd, bool) {
	if v.typing != nil {
		v.typed(a, key)
		return nil, true
	}
	w := &a.world
	inputs, findings := w.inputs(), w.mapping.Findings
	if move := step(key, 5); move != 0 {
		v.items.move(move, len(inputs)+len(findings))
		return nil, true
	}
	onInput := v.items.chosen < len(inputs)
	switch key {
	case "left":
		v.pan = max(v.pan-1, 0)
	case "right":
		v.pan++ // the drawing bounds it
	case "+", "=", "-":
		if !onInput {
			return nil, len(inputs) > 0
		}
		delta := 1
		if key == "-" {
			delta = -1
		}
		a.turn(inputs[v.items.chosen], turned(inputs[v.items.chosen], delta))
	case "backspace":
		if onInput {
			a.release(inputs[v.items.chosen].Name)
		}
	case "enter":
		if onInput {
			empty := ""
			v.typing = &empty
			return nil, true
		}
		return v.edit(a), true
	case "e":
		return v.edit(a), true
	default:
		return nil, false
	}
	return nil, true
}

// edit opens the lab file at the chosen finding.
func (v *planView) edit(a *App) tea.Cmd {
	if a.world.file == "" {
		return nil
	}
	line := 1
	if at := v.items.chosen - len(a.world.inputs()); at >= 0 && at < len(a.world.mapping.Findings) {
		line = a.world.mapping.Findings[at].Pos.Line
	}
	return a.edit(a.world.mapping.File, line)
}

// typed takes a key while a person types a value.
func (v *planView) typed(a *App, key string) {
	switch {
	case key == "esc":
		v.typing = nil
	case key == "enter":
		text := *v.typing
		v.typing = nil
		if inputs := a.world.inputs(); text != "" && v.items.chosen < len(inputs) {
			a.turn(inputs[v.items.chosen], text)
		}
	case key == "backspace":
		_, size := utf8.DecodeLastRuneInString(*v.typing)
		*v.typing = (*v.typing)[:len(*v.typing)-size]
	case key == "space":
		*v.typing += " "
	case utf8.RuneCountInString(key) == 1 && len(*v.typing) < 200:
		*v.typing += key
	}
}

// turned is the next value of an input in a direction.
func turned(in labfile.Input, direction int) string {
	choices := in.OneOf
	if in.Kind == labfile.Boolean {
		choices = []string{"false", "true"}
	}
	if len(choices) > 0 {
		at := slices.Index(choices, in.Value) + direction
		return choices[min(max(at, 0), len(choices)-1)]
	}
	number, err := strconv.ParseFloat(in.Value, 64)
	if err != nil {
		return in.Value
	}
	stride := 1.0
	if !in.Whole() {
		stride = 0.1
		if in.Min != nil && in.Max != nil {
			stride = (*in.Max - *in.Min) / 20
		}
	}
	number = math.Round((number+float64(direction)*stride)*1e6) / 1e6
	if in.Min != nil {
		number = max(number, *in.Min)
	}
	if in.Max != nil {
		number = min(number, *in.Max)
	}
	return strconv.FormatFloat(number, 'f', -1, 64)
}

// dialled is where a value was given that was turned or typed here.
const dialled = "the plan view"

func byDial(g labfile.Given) bool { return g.From == dialled }

// turn gives an input a value; the plan follows at once.
func (a *App) turn(in labfile.Input, text string) {
	value, err := in.Accept(text)
	if err != nil {
		a.say(true, "%v", err)
		return
	}
	w := &a.world
	w.given = slices.DeleteFunc(slices.Clone(w.given), func(g labfile.Given) bool { return g.Name == in.Name && g.From == dialled })
	w.given = slices.Insert(w.given, 0, labfile.Given{Name: in.Name, Text: value, From: dialled})
	a.replan()
}

// release gives an input the value back that the file or the command says.
func (a *App) release(name string) {
	w := &a.world
	w.given = slices.DeleteFunc(slices.Clone(w.given), func(g labfile.Given) bool { return g.Name == name && g.From == dialled })
	a.replan()
}

func (v *planView) click(a *App, x, y int) tea.Cmd {
	for _, s := range slices.Backward(v.spots) {
		if s.y != y || x < s.from || x >= s.until {
			continue
		}
		v.items.chosen = s.item
		if inputs := a.world.inputs(); s.scale && s.item < len(inputs) {
			in := inputs[s.item]
			number := s.low + (s.high-s.low)*float64(x-s.from)/float64(max(s.until-s.from-1, 1))
			if in.Whole() {
				number = math.Round(number)
			}
			a.turn(in, strconv.FormatFloat(number, 'f', -1, 64))
		}
		return nil
	}
	return nil
}

func (v *planView) wheel(a *App, lines int) {
	v.items.move(lines/3, len(a.world.inputs())+len(a.world.mapping.Findings))
}

func (v *planView) keys(w *world) []binding {
	var keys []binding
	inputs := len(w.inputs())
	switch {
	case v.typing != nil:
		return []binding{{"Enter", "take it"}, {"Esc", "leave it"}}
	case v.items.chosen < inputs:
		keys = append(keys, binding{"- +", "turn"}, binding{"Enter", "type"})
		if w.inputs()[v.items.chosen].From == dialled {
			keys = append(keys, binding{"Backspace", "as it was"})
		}
	case len(w.mapping.Findings) > 0:
		keys = append(keys, binding{"Enter", "open the file there"})
	}
	if inputs+len(w.mapping.Findings) > 1 {
		keys = append(keys, binding{"↑↓", "choose"})
	}
	if w.file != "" {
		keys = append(keys, binding{"e", "edit " + filepath.Base(w.file)})
	}
	if w.mapping.Plan != nil && !w.running() {
		if w.lives() {
			keys = append(keys, binding{"p", "provision what is due"})
		} else {
			keys = append(keys, binding{"p", "provision"})
		}
	}
	return keys
}
