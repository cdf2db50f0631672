package plan

import "kettlehole/internal/labfile"

// unbuilt says which parts of a right lab file this version does not carry
// out: an error where the lab would be another one without them, a note where
// it only lacks something.
func (m *maker) unbuilt() {
	lab := m.lab
	for _, g := range lab.Groups {
		if g.Substrate == labfile.VM {
			m.say(labfile.Error, g.Pos, len(g.Name), "leave substrate out, for containers", "group %q asks for virtual machines, which are not built yet", g.Name)
		}
		if g.Image != labfile.DefaultImage {
			m.say(labfile.Error, g.Pos, len(g.Name), "leave image out, for the image workstation", "group %q asks for image %q, and images other than workstation are not built yet", g.Name, g.Image)
		}
	}
	if len(lab.Checks) > 0 {
		m.say(labfile.Note, lab.Checks[0].Pos, 0, "", "checks are read and checked, and not carried out yet")
	}
	if len(lab.Drills) > 0 {
		m.say(labfile.Note, lab.Drills[0].Pos, 0, "", "drills are read and checked, and not carried out yet")
	}
}
