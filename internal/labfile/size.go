package labfile

import (
	"fmt"
	"strconv"
	"strings"
	"time"
)

// Bytes is a size in bytes.
type Bytes int64

// The binary units of memory and disk.
const (
	KiB Bytes = 1 << 10
	MiB Bytes = 1 << 20
	GiB Bytes = 1 << 30
)

// String gives the size in the largest binary unit that leaves it above one,
// with at most one decimal: "256 MiB", "1.5 GiB".
func (b Bytes) String() string {
	unit, name := Bytes(1), "B"
	switch {
	case b >= GiB:
		unit, name = GiB, "GiB"
	case b >= MiB:
		unit, name = MiB, "MiB"
	case b >= KiB:
		unit, name = KiB, "KiB"
	}
	return trimZero(strconv.FormatFloat(float64(b)/float64(unit), 'f', 1, 64)) + " " + name
}

// Short gives the size as it stands in a lab file: "256M", "1.5G".
func (b Bytes) Short() string {
	text, unit, _ := strings.Cut(b.String(), " ")
	return text + strings.TrimSuffix(strings.TrimSuffix(unit, "iB"), "B")
}

// exact gives the size in the largest unit of a lab file that loses nothing;
// sizes of lab files are whole KiB but for hand-made fractions.
func (b Bytes) exact() string {
	switch {
	case b%GiB == 0:
		return strconv.FormatInt(int64(b/GiB), 10) + "G"
	case b%MiB == 0:
		return strconv.FormatInt(int64(b/MiB), 10) + "M"
	}
	return strconv.FormatFloat(float64(b)/float64(KiB), 'f', -1, 64) + "K"
}

// ParseBytes reads a size: a number with one of the units K, M, G, all binary.
func ParseBytes(text string) (Bytes, error) {
	units := map[byte]Bytes{'K': KiB, 'M': MiB, 'G': GiB}
	if text == "" {
		return 0, fmt.Errorf("a size is needed, such as 256M or 1G")
	}
	unit, known := units[text[len(text)-1]]
	if !known {
		return 0, fmt.Errorf("%q is not a size; write a number and one of K, M, G, such as 256M", text)
	}
	number, err := strconv.ParseFloat(text[:len(text)-1], 64)
	if err != nil || !(number > 0 && number*float64(unit) <= float64(maxBytes)) {
		return 0, fmt.Errorf("%q is not a size; write a number above 0 and one of K, M, G, such as 256M", text)
	}
	return Bytes(number * float64(unit)), nil
}

// maxBytes is more than any workstation has: 1 PiB.
const maxBytes = 1 << 20 * GiB

// Cores is an amount of processor time in thousandths of a core.
type Cores int64

// String gives the cores as a number: "1", "0.5".
func (c Cores) String() string {
	return trimZero(strconv.FormatFloat(float64(c)/1000, 'f', 3, 64))
}

// ParseCores reads a number of cores, such as 2 or 0.5.
func ParseCores(text string) (Cores, error) {
	number, err := strconv.ParseFloat(text, 64)
	if err != nil || !(number >= 0.01 && number <= 1024) {
		return 0, fmt.Errorf("%q is not a number of cores; write one from 0.01 to 1024, such as 1 or 0.5", text)
	}
	return Cores(number*1000 + 0.5), nil
}

func trimZero(text string) string {
	if !strings.Contains(text, ".") {
		return text
	}
	return strings.TrimSuffix(strings.TrimRight(text, "0"), ".")
}

// Duration is a span of time that prints and reads as it stands in a lab
// file: "30s", "1m30s", "500ms".
type Duration time.Duration

// String gives the shortest form: "10m", not "10m0s".
func (d Duration) String() string {
	text := time.Duration(d).String()
	if strings.HasSuffix(text, "m0s") {
		text = strings.TrimSuffix(text, "0s")
	}
	if strings.HasSuffix(text, "h0m") {
		text = strings.TrimSuffix(text, "0m")
	}
	return text
}

// MarshalText gives the duration as it stands in a lab file.
func (d Duration) MarshalText() ([]byte, error) { return []byte(d.String()), nil }

// UnmarshalText reads a duration of any length.
func (d *Duration) UnmarshalText(text []byte) error {
	v, err := time.ParseDuration(string(text))
	*d = Duration(v)
	return err
}

// longest is the longest duration that a lab file may say.
const longest = 24 * time.Hour

// ParseDuration reads a duration above zero and of at most a day.
func ParseDuration(text string) (Duration, error) {
	d, err := time.ParseDuration(text)
	if err != nil {
		return 0, fmt.Errorf("%q is no duration; write one with a unit, such as 30s, 2m or 1m30s", text)
	}
	if d <= 0 || d > longest {
		return 0, fmt.Errorf("%s is no duration above zero and of at most a day", text)
	}
	return Duration(d), nil
}
