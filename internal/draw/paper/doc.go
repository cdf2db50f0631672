// Package paper puts our drawings on paper: SVG and PDF, black on white, with
// text that stays text. The geometry of a sheet is worked out first, in
// points, so that it can be looked at without any device.
package paper
