package workstation

import (
	"fmt"
	"strings"
	"text/tabwriter"

	"kettlehole/internal/labfile"
)

// String gives the facts as a table for people: what it is about, and what is
// so. The same facts as data are their JSON.
func (f Facts) String() string {
	var b strings.Builder
	w := tabwriter.NewWriter(&b, 2, 8, 2, ' ', 0)
	row := func(name, format string, args ...any) { fmt.Fprintf(w, "%s\t%s\n", name, fmt.Sprintf(format, args...)) }
	s := f.System
	row("machine", "%s, Linux %s on %s%s", s.Distribution, s.Kernel, s.Machine, some(", in ", s.Virtual))
	row("cores", "%d", f.Cores)
	row("memory", "%s, %s available", labfile.Bytes(f.MemoryTotal), labfile.Bytes(f.MemoryAvailable))
	row("swap", "%s, %s free", labfile.Bytes(f.SwapTotal), labfile.Bytes(f.SwapFree))
	row("disk", "%s free where labs live", labfile.Bytes(f.DiskFree))
	if p := f.Pressure; p.Known {
		row("waiting", "cpu %.0f%%, memory %.0f%%, disk %.0f%% of the last 10 s", p.CPU, p.Memory, p.IO)
	}
	for _, i := range f.Interfaces {
		row("interface", "%s%s", i.Name, some(" ", join(i.Addresses)))
	}
	for _, r := range f.Routes {
		row("route", "%s by %s", r.To, r.Interface)
	}
	for _, r := range f.Resolvers {
		row("resolver", "%s", r)
	}
	for _, l := range f.Listening {
		row(map[bool]string{false: "TCP port", true: "UDP port"}[l.UDP], "%s held by %s", l.Addr, l.Holder())
	}
	for _, h := range f.Labs {
		row("lab", "%s: %s of %s used%s", h.Lab, labfile.Bytes(h.MemoryUsed), labfile.Bytes(h.MemoryLimit), some("; ", strings.Join(h.Ports, ", ")))
	}
	if f.Ephemeral[1] > 0 {
		row("ephemeral ports", "%d-%d", f.Ephemeral[0], f.Ephemeral[1])
	}
	writable := "not writable for this user"
	if f.Cgroup.Writable {
		writable = "writable for this user"
	}
	row("control groups", "version %s, %s; %s", f.Cgroup.Version, writable, strings.Join(f.Cgroup.Controllers, " "))
	row("limits", "%d open files of a process, %d processes, %d inotify instances, %d watches", f.Limits.OpenFiles, f.Limits.Processes, f.Limits.InotifyInstances, f.Limits.InotifyWatches)
	for _, r := range f.SubUIDs {
		row("subordinate users", "%d from %d on", r.Count, r.First)
	}
	for _, r := range f.SubGIDs {
		row("subordinate groups", "%d from %d on", r.Count, r.First)
	}
	if f.Modules != nil {
		row("kernel modules", "%d loaded or built in", len(f.Modules))
	}
	for _, t := range f.Trials {
		switch {
		case t.Works:
			row(t.Name, "works%s%s", some(": ", t.Version), some(", ", t.Path))
		case t.Tried:
			row(t.Name, "does not work: %s", t.Why)
		default:
			row(t.Name, "%s", t.Why)
		}
	}
	_ = w.Flush() // a strings.Builder takes all
	return b.String()
}

// some puts words before a text that is there.
func some(before, text string) string {
	if text == "" {
		return ""
	}
	return before + text
}

func join[T fmt.Stringer](all []T) string {
	var texts []string
	for _, one := range all {
		texts = append(texts, one.String())
	}
	return strings.Join(texts, ", ")
}
