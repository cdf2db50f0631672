package labfile

import (
	"fmt"
	"strings"

	"github.com/goccy/go-yaml"
)

// Print writes a lab as a lab file, with the values that inputs have put in
// their places. Parsing it again, with the same files beside it, gives the
// same lab.
func Print(lab *Lab) ([]byte, error) {
	var p printer
	p.put("lab", lab.Name)
	p.text("about", lab.About)
	section(&p, "inputs", lab.Inputs, func(in Input) (string, any) { return in.Name, printInput(in) })
	p.text("programs", lab.Programs)
	if lab.Modules != nil {
		p.put("modules", names(lab.Modules, func(r Ref) string { return r.Name }))
	}
	section(&p, "networks", lab.Networks, func(n Network) (string, any) { return n.Name, printNetwork(n) })
	section(&p, "reserve", lab.Reserves, func(one RangeReserve) (string, any) { return one.Name, one.Range.String() })
	section(&p, "images", lab.Images, func(i Image) (string, any) { return i.Name, printImage(i) })
	section(&p, "groups", lab.Groups, func(g Group) (string, any) { return g.Name, printGroup(g) })
	section(&p, "fronts", lab.Fronts, func(f Front) (string, any) { return f.Name, printFront(f) })
	section(&p, "forwards", lab.Forwards, func(f Forward) (string, any) { return f.Name, f.String() })
	section(&p, "steps", lab.Steps, func(s Step) (string, any) { return s.Name, printStep(s) })
	section(&p, "retrieve", lab.Retrieves, func(one Retrieve) (string, any) {
		var q printer
		q.put("from", one.Node+":"+one.Path)
		section(&q, "replace", one.Replace, func(pair Replace) (string, any) { return pair.Text, escape(pair.By) })
		return one.Name, q.fields
	})
	section(&p, "checks", lab.Checks, func(c Check) (string, any) { return c.Name, printCheck(c) })
	section(&p, "drills", lab.Drills, func(d Drill) (string, any) { return d.Name, printDrill(d) })
	text, err := yaml.MarshalWithOptions(p.fields, yaml.UseLiteralStyleIfMultiline(true))
	if err != nil {
		return nil, fmt.Errorf("printing lab %q: %w", lab.Name, err)
	}
	return text, nil
}

// printer collects the entries of a mapping in order.
type printer struct{ fields yaml.MapSlice }

func (p *printer) put(key string, value any) {
	if text, is := value.(string); is {
		value = escape(text)
	}
	p.fields = append(p.fields, yaml.MapItem{Key: key, Value: value})
}

// raw puts a script, in which nothing stands for an input.
func (p *printer) raw(key, script string) {
	if script != "" {
		p.fields = append(p.fields, yaml.MapItem{Key: key, Value: script})
	}
}

func (p *printer) text(key, text string) {
	if text != "" {
		p.put(key, text)
	}
}

// some puts a value that is not the zero value.
func some[T comparable](p *printer, key string, value T) {
	var zero T
	if value != zero {
		p.put(key, value)
	}
}

func section[T any](p *printer, key string, things []T, print func(T) (string, any)) {
	if len(things) == 0 {
		return
	}
	var q printer
	for _, thing := range things {
		name, value := print(thing)
		q.fields = append(q.fields, yaml.MapItem{Key: name, Value: value})
	}
	p.put(key, q.fields)
}

func escape(text string) string { return strings.ReplaceAll(text, "${", "$${") }

func list(p *printer, key string, refs []Ref) {
	if len(refs) > 0 {
		p.put(key, names(refs, func(r Ref) string { return escape(r.Name) }))
	}
}

// typed gives an input's value the type that says its kind.
func typed(kind Kind, text string) any {
	switch kind {
	case Boolean:
		return text == "true"
	case Numeric:
		return plainNumber(text)
	}
	return text
}

// plainNumber is a number that is printed as it stands.
type plainNumber string

// MarshalYAML prints the digits without quotes.
func (n plainNumber) MarshalYAML() ([]byte, error) { return []byte(n), nil }

func printInput(in Input) any {
	var p printer
	p.fields = append(p.fields, yaml.MapItem{Key: "default", Value: typed(in.Kind, in.Default)})
	if in.Min != nil {
		p.put("min", plainNumber(shortest(*in.Min)))
	}
	if in.Max != nil {
		p.put("max", plainNumber(shortest(*in.Max)))
	}
	var choices []any
	for _, choice := range in.OneOf {
		choices = append(choices, typed(in.Kind, choice))
	}
	if choices != nil {
		p.put("one of", choices)
	}
	p.text("about", in.About)
	return p.fields
}

func printNetwork(n Network) any {
	var p printer
	subnet := "auto"
	if !n.Auto() {
		subnet = n.Subnet.String()
	}
	if n.Subnet6.IsValid() {
		p.put("subnet", []string{subnet, n.Subnet6.String()})
	} else {
		p.put("subnet", subnet)
	}
	section(&p, "reserve", n.Reserves, func(h HostReserve) (string, any) { return h.Name, h.First.String() + "-" + h.Last.String() })
	some(&p, "egress", n.Egress)
	return p.fields
}

func printImage(i Image) any {
	var p printer
	p.text("oci", i.OCI)
	if len(i.Packages) > 0 {
		p.put("packages", i.Packages)
	}
	p.text("date", i.Date)
	p.text("disk", i.Disk)
	return p.fields
}

func printGroup(g Group) any {
	var p printer
	p.put("count", g.Count)
	p.put("substrate", string(g.Substrate))
	p.put("image", g.Image)
	p.put("cpu", plainNumber(g.CPU.String()))
	p.put("memory", g.Memory.exact())
	p.put("disk", g.Disk.exact())
	section(&p, "networks", g.Networks, func(t Tap) (string, any) {
		if t.Host == nil {
			return t.Network, "auto"
		}
		return t.Network, t.Host.String()
	})
	some(&p, "quorum", g.Quorum)
	section(&p, "services", g.Services, func(s Service) (string, any) {
		var q printer
		q.raw("run", s.Run)
		return s.Name, q.fields
	})
	return p.fields
}

func printFront(f Front) any {
	var p printer
	p.put("address", f.Network+f.Host.String())
	p.put("port", int(f.Port))
	p.put("to", fmt.Sprintf("%s:%d", f.Group, f.GroupPort))
	var healthy printer
	healthy.put("port", int(f.HealthPort))
	healthy.text("http", f.HealthPath)
	p.put("healthy", healthy.fields)
	return p.fields
}

func printStep(s Step) any {
	var p printer
	p.put("on", s.On.Text)
	list(&p, "after", s.After)
	list(&p, "takes", s.Takes)
	section(&p, "gives", s.Gives, func(v Value) (string, any) {
		if v.Secret {
			return v.Name, "secret"
		}
		return v.Name, "text"
	})
	section(&p, "put", s.Put, func(f File) (string, any) { return f.Source, escape(f.Target) })
	list(&p, "start", s.Start)
	if s.Source != "" {
		p.put("script", s.Source)
	} else {
		p.raw("run", s.Script)
	}
	section(&p, "env", s.Env, func(v Var) (string, any) { return v.Name, escape(v.Value) })
	some(&p, "shared", s.Shared)
	some(&p, "at-once", s.AtOnce)
	if s.Retry != nil {
		p.put("retry", yaml.MapSlice{{Key: "times", Value: s.Retry.Times}, {Key: "pause", Value: s.Retry.Pause.String()}})
	}
	if s.Within != DefaultLimit {
		p.put("within", s.Within.String())
	}
	if s.Wait != nil {
		var q printer
		switch s.Wait.Kind {
		case WaitPort:
			q.put("port", int(s.Wait.Port))
		case WaitRun:
			q.raw("run", s.Wait.Text)
		default:
			q.put(string(s.Wait.Kind), s.Wait.Text)
		}
		q.put("within", s.Wait.Within.String())
		p.put("wait", q.fields)
	}
	return p.fields
}

func printCheck(c Check) any {
	var p printer
	if c.From != Workstation {
		p.put("from", c.From)
	}
	p.text("reach", c.Reach.Text)
	p.text("over", c.Over)
	p.raw("run", c.Run)
	p.text("says", c.Says)
	p.text("http", c.HTTP)
	some(&p, "status", c.Status)
	if c.Node != "" {
		p.put("port", fmt.Sprintf("%s:%d", c.Node, c.Port))
	}
	p.put("within", c.Within.String())
	return p.fields
}

func printDrill(d Drill) any {
	var p printer
	p.put(string(d.Fault), d.On.Text)
	if d.From != nil {
		p.put("from", d.From.Text)
	}
	p.text("over", d.Over)
	if d.By != 0 {
		p.put("by", d.By.String())
	}
	if d.Share != 0 {
		p.put("share", plainNumber(shortest(d.Share)))
	}
	p.put("for", d.For.String())
	list(&p, "holds", d.Holds)
	list(&p, "breaks", d.Breaks)
	if d.Outage != 0 {
		p.put("outage", d.Outage.String())
	}
	return p.fields
}
