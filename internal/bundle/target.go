package bundle

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
)

// Open opens the folder that a bundle goes into when it is meant for target,
// and gives the name that its top gets there, "" for its own. A target that is
// a folder, or ends with a slash, or is meant for several things, is a folder
// they go into; else it is the new name of the one that comes. Folders that are
// missing are made.
func Open(target string, several bool) (into *os.Root, rename string, err error) {
	last := target[strings.LastIndexByte(target, '/')+1:]
	folder := several || last == "" || last == "." || last == ".."
	info, err := os.Stat(target)
	switch {
	case err == nil && info.IsDir():
	case err == nil && folder:
		return nil, "", fmt.Errorf("%s is no folder", target)
	case err != nil && !errors.Is(err, fs.ErrNotExist):
		return nil, "", plain(err)
	case err == nil || !folder:
		target, rename = filepath.Dir(target), filepath.Base(target)
		fallthrough
	default:
		if err := os.MkdirAll(target, 0o755); err != nil {
			return nil, "", plain(err)
		}
	}
	if into, err = os.OpenRoot(target); err != nil {
		return nil, "", plain(err)
	}
	return into, rename, nil
}
