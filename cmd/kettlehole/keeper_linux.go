package main

import (
	"context"
	"errors"
	"log/slog"
	"os"
	"os/signal"
	"path/filepath"
	"runtime/debug"
	"syscall"

	"kettlehole/internal/clock"
	"kettlehole/internal/home"
	"kettlehole/internal/keeper"
	"kettlehole/internal/substrate/container"
	"kettlehole/internal/trial"
	"kettlehole/internal/workstation"
)

// keeperWord is the hidden command by which this program works as a keeper.
const keeperWord = "keeper"

// keep works as the keeper of a lab and gives the exit code. programs is the
// folder of the anchor and the init.
func keep(state home.Home, programs, lab string) int {
	debug.SetGCPercent(40) // it lives long and does little
	ctx, stop := signal.NotifyContext(context.Background(), syscall.SIGTERM, syscall.SIGINT)
	defer stop()
	log := slog.New(slog.NewTextHandler(os.Stderr, nil))
	err := keeper.Serve(ctx, keeper.Options{Home: state, Lab: lab, Clock: clock.Real{}, Log: log,
		Anchor: filepath.Join(programs, "kettlehole-anchor"), Init: filepath.Join(programs, "kettlehole-init"), Files: filepath.Join(programs, "kettlehole-files"),
		Through: []string{"env", home.Variable + "=" + string(state), filepath.Join(programs, "kettlehole"), "access", "--lab", lab, "--to", "%h"}})
	if err != nil && !errors.Is(err, keeper.ErrBusy) {
		log.Error("the keeper ends", "error", err)
		return 1
	}
	return 0
}

// hindrance says why no lab can live here, as far as a glance tells.
func hindrance() string {
	switch {
	case os.Geteuid() != 0:
		return "laying nodes on containers needs root, and this user is not"
	case container.FindRuntime() == "":
		return "no OCI runtime is installed"
	}
	return ""
}

func try(ctx context.Context, state home.Home, again bool) ([]workstation.Trial, error) {
	return trial.All(ctx, state, again)
}
