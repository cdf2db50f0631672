//go:build !linux

package main

import (
	"context"
	"errors"
	"fmt"
	"os"

	"kettlehole/internal/home"
	"kettlehole/internal/workstation"
)

// keeperWord is the hidden command by which this program works as a keeper.
const keeperWord = "keeper"

var errNotLinux = errors.New("labs live on Linux alone; here they can be planned, rehearsed and drawn")

func keep(home.Home, string, string) int {
	fmt.Fprintln(os.Stderr, "kettlehole:", errNotLinux)
	return 1
}

func hindrance() string { return errNotLinux.Error() }

func try(context.Context, home.Home, bool) ([]workstation.Trial, error) { return nil, errNotLinux }
