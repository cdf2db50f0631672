package mapping

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"

	"kettlehole/internal/labfile"
)

// WriteForward puts a forward into a lab file, in the place where a person
// would. The file is changed whole or not at all, and keeps its mode.
func WriteForward(file string, f labfile.Forward) error {
	source, err := os.ReadFile(file)
	if err != nil {
		return fmt.Errorf("reading the lab file: %w", err)
	}
	info, err := os.Stat(file)
	if err != nil {
		return fmt.Errorf("reading the lab file: %w", err)
	}
	changed, err := labfile.WithForward(source, f)
	if errors.Is(err, labfile.ErrNoPlace) {
		return fmt.Errorf("%w; under forwards: write  %s: %s", err, f.Name, f)
	} else if err != nil {
		return err
	}
	half, err := os.CreateTemp(filepath.Dir(file), ".lab-*")
	if err != nil {
		return fmt.Errorf("writing the lab file: %w", err)
	}
	defer os.Remove(half.Name()) // gone once it is renamed
	_, err = half.Write(changed)
	if err == nil {
		err = half.Chmod(info.Mode().Perm())
	}
	if closed := half.Close(); err == nil {
		err = closed
	}
	if err == nil {
		err = os.Rename(half.Name(), file)
	}
	if err != nil {
		return fmt.Errorf("writing the lab file: %w", err)
	}
	return nil
}
