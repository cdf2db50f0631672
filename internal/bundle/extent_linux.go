package bundle

import (
	"errors"
	"os"

	"golang.org/x/sys/unix"
)

// extent finds the next run of bytes that are there, from at on (lseek(2),
// SEEK_DATA). A file system that knows no holes has none.
func extent(file *os.File, at, size int64) (from, to int64) {
	from, err := file.Seek(at, unix.SEEK_DATA)
	if err != nil {
		if isNoData(err) {
			return size, size
		}
		return at, size
	}
	to, err = file.Seek(from, unix.SEEK_HOLE)
	if err != nil {
		to = size
	}
	return min(from, size), min(to, size)
}

func isNoData(err error) bool { return errors.Is(err, unix.ENXIO) }
