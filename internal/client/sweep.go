package client

import (
	"context"
	"os"
	"path/filepath"
	"strings"

	"kettlehole/internal/lock"
)

// Sweep removes what keepers that were killed left of themselves in the state
// folder, for labs that are gone. Files of a keeper that works stay.
func (s Station) Sweep(ctx context.Context) error {
	labs, err := s.Labs(ctx)
	if err != nil {
		return err
	}
	living := map[string]bool{}
	for _, l := range labs {
		living[l.Name] = true
	}
	locks, err := filepath.Glob(s.Home.Keeper("*", "lock"))
	if err != nil {
		return err
	}
	for _, path := range locks {
		name := strings.TrimSuffix(filepath.Base(path), ".lock")
		if living[name] {
			continue
		}
		held, err := os.Open(path)
		if err != nil {
			continue // its keeper has just taken it away
		}
		if lock.Try(held) == nil {
			for _, kind := range []string{"sock", "log", "lock"} {
				_ = os.Remove(s.Home.Keeper(name, kind))
			}
		}
		_ = held.Close()
	}
	return nil
}
