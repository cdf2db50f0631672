package labfile

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"

	"kettlehole/internal/labfile/shape"
)

// MaxCount is how many nodes a group may have.
const MaxCount = 10_000

func (r *reader) group(f field) {
	g := Group{Name: r.key(f, "a group's name"), Count: 1, Substrate: Container, Image: DefaultImage, CPU: DefaultCPU, Memory: DefaultMemory, Disk: DefaultDisk, Pos: f.at.pos}
	if endsNumber.MatchString(g.Name) {
		r.wrong(f.at, "a group's name does not end in a number; %q would look like a node", g.Name)
	}
	if g.Name == "all" || g.Name == Workstation || g.Name == "localhost" {
		r.wrong(f.at, "%q has a meaning of its own and cannot be a group's name", g.Name)
	}
	owner := fmt.Sprintf("group %q", g.Name)
	for _, e := range r.fields(f.value, owner) {
		switch e.key {
		case "count":
			g.Count, g.CountPos = value(r, e.value, "count", parseCount), e.value.pos
		case "substrate":
			text, ok := r.scalar(e.value, "substrate")
			if g.Substrate = Substrate(text); ok && g.Substrate != Container && g.Substrate != VM {
				f := Finding{Pos: e.value.pos, Width: e.value.width, Message: fmt.Sprintf("a substrate is container or vm, not %q", text), Meant: nearest(text, []string{"container", "vm"})}
				if text == "rehearsal" {
					f.Remedy = "a whole lab is rehearsed with kettlehole rehearse; the file says nothing of it"
				}
				r.add(f)
			}
		case "image":
			g.Image = r.said(e.value, "image")
			known := append(names(r.lab.Images, func(i Image) string { return i.Name }), DefaultImage)
			if !slices.Contains(known, g.Image) && g.Image != "" {
				r.add(Finding{Pos: e.value.pos, Width: e.value.width, Meant: nearest(g.Image, known),
					Message: fmt.Sprintf("there is no image %q", g.Image), Remedy: "images that are there: " + strings.Join(known, ", ")})
			}
		case "cpu":
			g.CPU = value(r, e.value, "cpu", ParseCores)
		case "memory":
			g.Memory = value(r, e.value, "memory", ParseBytes)
			if g.Memory > 0 && g.Memory < 16*MiB {
				r.wrong(e.value, "a node needs at least 16M of memory")
			}
		case "disk":
			g.Disk = value(r, e.value, "disk", ParseBytes)
		case "networks":
			g.Networks = r.taps(e.value)
		case "quorum":
			g.Quorum = r.boolean(e.value, "quorum")
		case "services":
			for _, s := range r.fields(e.value, "services") {
				g.Services = append(g.Services, r.service(s))
			}
		default:
			unknown[shape.Group](&r.tree, e, owner)
		}
	}
	r.lab.Groups = append(r.lab.Groups, g)
}

func parseCount(text string) (int, error) {
	count, err := strconv.Atoi(text)
	if err != nil || count < 0 || count > MaxCount {
		return 0, fmt.Errorf("%q is not a whole number from 0 to %d", text, MaxCount)
	}
	return count, nil
}

func (r *reader) service(f field) Service {
	s := Service{Name: r.key(f, "a service's name"), Pos: f.at.pos}
	owner := fmt.Sprintf("service %q", s.Name)
	strange := false
	for _, e := range r.fields(f.value, owner) {
		switch e.key {
		case "run":
			s.Run, _ = r.literal(e.value, "run")
		default:
			strange = true
			unknown[shape.Service](&r.tree, e, owner)
		}
	}
	if strings.TrimSpace(s.Run) == "" && !strange {
		r.wrong(f.at, "%s says nothing to run", owner)
	}
	return s
}

func (r *reader) image(f field) {
	image := Image{Name: r.key(f, "an image's name"), Pos: f.at.pos}
	owner := fmt.Sprintf("image %q", image.Name)
	if image.Name == DefaultImage {
		r.wrong(f.at, "%q is there already and cannot be declared", DefaultImage)
	}
	at, strange := map[string]node{}, false
	for _, e := range r.fields(f.value, owner) {
		at[e.key] = e.value
		switch e.key {
		case "oci":
			image.OCI = r.said(e.value, "oci")
			r.unpinnedImage(e.value, image.OCI)
		case "packages":
			for _, ref := range r.texts(e.value, "packages") {
				image.Packages = append(image.Packages, ref.Name)
			}
			if len(image.Packages) == 0 && e.value.is(yaml.SequenceNode) {
				r.wrong(e.value, "packages names none")
			}
		case "date":
			if image.Date, _ = r.scalar(e.value, "date"); !archiveDate.MatchString(image.Date) {
				r.wrong(e.value, "date is a day written as year, month, day, such as 20260901, not %q", image.Date)
			}
		case "disk":
			if image.Disk, _ = r.text(e.value, "disk"); !local(image.Disk) {
				r.wrong(e.value, "a disk is a file beside the lab file; %q leads out of its folder", image.Disk)
			}
		default:
			strange = true
			unknown[shape.Image](&r.tree, e, owner)
		}
	}
	image.Kind = ImageKind(r.oneOf(at, f, owner, strange, "oci", "packages", "disk"))
	if image.Kind != ImagePackages && image.Kind != "" {
		r.only(at, owner, string(image.Kind), "date")
	} else if image.Kind != "" && image.Date == "" {
		r.add(Finding{Severity: Caution, Pos: f.at.pos, Width: f.at.width, Message: owner + " takes whatever versions the archive has on the day",
			Remedy: "add a date, such as date: 20260901, which pins every version"})
	}
	r.lab.Images = append(r.lab.Images, image)
}
