package main

import (
	"context"
	"os/exec"
	"time"

	"kettlehole/internal/client"
	"kettlehole/internal/tui"
)

// open shows the full-screen interface; shells are this program's own command.
func open(ctx context.Context, self string, station client.Station, options tui.Options) error {
	options.Station, options.Now = station, time.Now
	options.Shell = func(lab, node string) *exec.Cmd { return exec.Command(self, "shell", "--lab", lab, node) }
	return tui.Run(ctx, options)
}
