package plan

import "kettlehole/internal/labfile"

// Select gives the names of the nodes that a selection of the lab file's kind
// means: "all", "council-2..", "all except gate".
func (p *Plan) Select(text string) ([]string, error) {
	selection, err := labfile.ParseSelection(text)
	if err != nil {
		return nil, err
	}
	var groups []labfile.Group
	for _, name := range p.Groups() {
		g := labfile.Group{Name: name}
		for _, n := range p.Nodes {
			if n.Group == name {
				g.Count++
			}
		}
		groups = append(groups, g)
	}
	return selection.Nodes(groups)
}
