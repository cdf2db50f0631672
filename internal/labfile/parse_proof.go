package labfile

import (
	"fmt"
	"net/url"
	"strconv"
	"strings"

	"kettlehole/internal/labfile/shape"
)

// address reads a URL of the schemes http and https (RFC 3986).
func (r *reader) address(n node, owner string) string {
	text, ok := r.text(n, owner)
	if !ok {
		return ""
	}
	if u, err := url.Parse(text); err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
		r.wrong(n, "%s: %q is no address such as http://gate-1/ready", owner, text)
	}
	return text
}

func (r *reader) retrieve(f field) {
	one := Retrieve{Name: f.key, Pos: f.at.pos}
	owner := fmt.Sprintf("retrieve %q", one.Name)
	if !local(one.Name) || strings.HasSuffix(one.Name, "/") {
		r.wrong(f.at, "the name of a file that is retrieved stays in the lab's folder; %q does not", one.Name)
	}
	for _, e := range r.fields(f.value, owner) {
		switch e.key {
		case "from":
			one.Node, one.Path, one.FromPos = r.nodePath(e.value, "from")
		case "replace":
			for _, pair := range r.fields(e.value, "replace") {
				by, _ := r.text(pair.value, "what stands there instead")
				one.Replace = append(one.Replace, Replace{Text: pair.key, By: by, Pos: pair.value.pos})
			}
		default:
			unknown[shape.Retrieve](&r.tree, e, owner)
		}
	}
	if one.FromPos == (Pos{}) {
		r.add(Finding{Pos: f.at.pos, Width: f.at.width, Message: owner + " does not say from where", Remedy: "add from: a node and a path, such as council-1:/var/lib/desk/admin.json"})
	}
	r.lab.Retrieves = append(r.lab.Retrieves, one)
}

func (r *reader) sentence(f field, owner string) string {
	if strings.TrimSpace(f.key) == "" || len(f.key) > 120 {
		r.wrong(f.at, "%s has a short sentence as its name", owner)
	}
	return f.key
}

func (r *reader) readCheck(f field) {
	c := Check{Name: r.sentence(f, "a check"), From: Workstation, Within: DefaultCheck, Pos: f.at.pos}
	owner := fmt.Sprintf("check %q", c.Name)
	at, strange := map[string]node{}, false
	for _, e := range r.fields(f.value, owner) {
		at[e.key] = e.value
		switch e.key {
		case "from":
			c.From, _ = r.scalar(e.value, "from")
			c.FromAt = e.value.pos
		case "reach":
			c.Reach = r.selection(e.value, "reach")
		case "over":
			c.Over, _ = r.scalar(e.value, "over")
			c.OverAt = e.value.pos
		case "run":
			c.Run = r.command(e.value, "run")
		case "says":
			c.Says, _ = r.text(e.value, "says")
		case "http":
			c.HTTP = r.address(e.value, "http")
		case "status":
			c.Status = value(r, e.value, "status", parseStatus)
		case "port":
			c.Node, c.Port, c.PortAt = r.nodePort(e.value, "node", "gate-1:80")
		case "within":
			c.Within = value(r, e.value, "within", ParseDuration)
		default:
			strange = true
			unknown[shape.Check](&r.tree, e, owner)
		}
	}
	c.Kind = CheckKind(r.oneOf(at, f, owner, strange, "reach", "run", "http", "port"))
	switch c.Kind {
	case CheckReach:
		r.only(at, owner, "reach", "from", "says", "status")
	case CheckRun:
		r.only(at, owner, "run", "over", "status")
		if c.From == Workstation {
			r.add(Finding{Pos: f.at.pos, Width: f.at.width, Message: owner + " does not say on which node its command runs",
				Remedy: "add from: a node; a lab never runs commands on the workstation"})
		}
	case CheckHTTP:
		r.only(at, owner, "http", "over")
		if c.Status == 0 {
			c.Status = 200
		}
	case CheckPort:
		r.only(at, owner, "port", "over", "says", "status")
	}
	r.lab.Checks = append(r.lab.Checks, c)
}

func parseStatus(text string) (int, error) {
	n, err := strconv.Atoi(text)
	if err != nil || n < 100 || n > 599 {
		return 0, fmt.Errorf("%q is no HTTP status; those go from 100 to 599", text)
	}
	return n, nil
}

func (r *reader) drill(f field) {
	d := Drill{Name: r.sentence(f, "a drill"), By: DefaultLateness, Share: DefaultShare, For: DefaultFault, Pos: f.at.pos}
	owner := fmt.Sprintf("drill %q", d.Name)
	at, strange := map[string]node{}, false
	for _, e := range r.fields(f.value, owner) {
		at[e.key] = e.value
		switch e.key {
		case "kill", "pause", "cut", "slow", "lossy":
			d.On = r.selection(e.value, e.key)
		case "from":
			from := r.selection(e.value, "from")
			d.From = &from
		case "over":
			d.Over, _ = r.scalar(e.value, "over")
			d.OverAt = e.value.pos
		case "by":
			d.By = value(r, e.value, "by", ParseDuration)
		case "share":
			d.Share = value(r, e.value, "share", parseShare)
		case "for":
			d.For = value(r, e.value, "for", ParseDuration)
		case "holds":
			d.Holds = r.texts(e.value, "holds")
		case "breaks":
			d.Breaks = r.texts(e.value, "breaks")
		case "outage":
			d.Outage = value(r, e.value, "outage", ParseDuration)
		default:
			strange = true
			unknown[shape.Drill](&r.tree, e, owner)
		}
	}
	d.Fault = FaultKind(r.oneOf(at, f, owner, strange, "kill", "pause", "cut", "slow", "lossy"))
	if d.Fault == FaultKill || d.Fault == FaultPause {
		r.only(at, owner, string(d.Fault), "from", "over")
	}
	if d.Fault != FaultSlow {
		r.only(at, owner, string(d.Fault), "by")
		d.By = 0
	}
	if d.Fault != FaultLossy {
		r.only(at, owner, string(d.Fault), "share")
		d.Share = 0
	}
	if len(d.Holds)+len(d.Breaks) == 0 && !strange {
		r.add(Finding{Severity: Caution, Pos: f.at.pos, Width: f.at.width, Message: owner + " expects nothing, so that it proves nothing",
			Remedy: "add holds or breaks with the names of checks"})
	}
	r.lab.Drills = append(r.lab.Drills, d)
}

func parseShare(text string) (float64, error) {
	share, err := strconv.ParseFloat(text, 64)
	if err != nil || !(share > 0 && share <= 100) {
		return 0, fmt.Errorf("%q is no share; write percent above 0 and up to 100", text)
	}
	return share, nil
}
