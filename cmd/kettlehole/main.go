// Kettlehole lays throwaway multi-node lab clusters on one workstation.
package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"

	"kettlehole/internal/cli"
	"kettlehole/internal/client"
	"kettlehole/internal/home"
	"kettlehole/internal/labfile"
	"kettlehole/internal/tui"
	"kettlehole/internal/workstation"
)

// version is set when the program is linked.
var version = "in development"

func main() {
	self, err := os.Executable()
	if err == nil {
		self, err = filepath.EvalSymlinks(self)
	}
	state, homeErr := home.Default()
	if err == nil {
		err = homeErr
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "kettlehole:", err)
		os.Exit(cli.ExitWorkstation)
	}
	if len(os.Args) == 3 && os.Args[1] == keeperWord {
		os.Exit(keep(state, filepath.Dir(self), os.Args[2]))
	}
	app := &cli.App{
		Station: client.Station{Home: state, Keeper: []string{self, keeperWord}},
		Version: version, Demo: demoFile(filepath.Dir(self)), Programs: filepath.Dir(self), In: os.Stdin, Out: os.Stdout, Err: os.Stderr,
	}
	app.Open = func(ctx context.Context, file string, given []labfile.Given, tight bool) error {
		return open(ctx, self, app.Station, tui.Options{File: file, Given: given, Tight: tight})
	}
	app.OpenRehearsed = func(ctx context.Context, file string) error {
		return open(ctx, self, app.Station, tui.Options{File: file, Rehearse: true})
	}
	app.Hindrance = hindrance
	app.Try = func(ctx context.Context, again bool) ([]workstation.Trial, error) {
		return try(ctx, state, again)
	}
	os.Exit(app.Main(context.Background(), os.Args[1:]))
}

// demoFile finds the demo's lab file: beside the folder of the program, or in
// the project's folder.
func demoFile(programs string) string {
	for _, base := range []string{filepath.Dir(programs), "."} {
		file := filepath.Join(base, "examples", "avalanche-desk", "avalanche.lab.yaml")
		if _, err := os.Stat(file); err == nil {
			return file
		}
	}
	return ""
}
