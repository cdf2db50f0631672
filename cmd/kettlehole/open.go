package main

import (
	"context"
	"os/exec"
	"time"

	"kettlehole/internal/client"
	"kettlehole/internal/labfile"
	"kettlehole/internal/tui"
)

// open shows the full-screen interface; shells are this program's own command.
func open(ctx context.Context, self string, station client.Station, file string, given []labfile.Given, tight bool) error {
	return tui.Run(ctx, tui.Options{Station: station, File: file, Given: given, Tight: tight, Now: time.Now,
		Shell: func(lab, node string) *exec.Cmd { return exec.Command(self, "shell", "--lab", lab, node) }})
}
