//go:build !unix

package lock

import (
	"errors"
	"os"
)

// Wait is not possible here, where no lab can live either.
func Wait(*os.File) error { return errors.ErrUnsupported }

// Try is not possible here, where no lab can live either.
func Try(*os.File) error { return errors.ErrUnsupported }
