package labfile

import (
	"fmt"
	"strconv"
	"strings"
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
	if err != nil || !(number > 0 && number <= 1<<20) {
		return 0, fmt.Errorf("%q is not a size; write a number above 0 and one of K, M, G, such as 256M", text)
	}
	return Bytes(number * float64(unit)), nil
}

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
