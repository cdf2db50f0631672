// Package theme is the palette: cold stone for structure, glacial blue for
// what is in motion, moss for ready, ochre for caution, brick for failure.
package theme

import (
	"image/color"

	"charm.land/lipgloss/v2"
)

// Theme gives every colour that the interface uses.
type Theme struct {
	Text, Dim, Faint color.Color // from what is read to what only separates
	Motion, Ice      color.Color // what moves; what has moved
	Moss             color.Color // ready
	Ochre            color.Color // caution
	Brick            color.Color // failure
	Earth            color.Color // the workstation's surface
	Chosen           color.Color // behind the chosen line
}

// Dark is for dark terminals, and where the terminal does not say.
func Dark() Theme {
	return Theme{
		Text: lipgloss.Color("#d5dce3"), Dim: lipgloss.Color("#8b949e"), Faint: lipgloss.Color("#4b545e"),
		Motion: lipgloss.Color("#8fd8ec"), Ice: lipgloss.Color("#4aa3c9"), Moss: lipgloss.Color("#9fc27a"),
		Ochre: lipgloss.Color("#e0a94a"), Brick: lipgloss.Color("#d9705f"), Earth: lipgloss.Color("#8a6f5c"), Chosen: lipgloss.Color("#17323c"),
	}
}

// Light is for light terminals.
func Light() Theme {
	return Theme{
		Text: lipgloss.Color("#1f2933"), Dim: lipgloss.Color("#5c6873"), Faint: lipgloss.Color("#b4bdc6"),
		Motion: lipgloss.Color("#0b7fa3"), Ice: lipgloss.Color("#2f7f9f"), Moss: lipgloss.Color("#4c7a2a"),
		Ochre: lipgloss.Color("#9a6700"), Brick: lipgloss.Color("#b03a2a"), Earth: lipgloss.Color("#8a6f5c"), Chosen: lipgloss.Color("#d6ebf2"),
	}
}
