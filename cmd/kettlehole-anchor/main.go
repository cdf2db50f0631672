// Kettlehole-anchor holds the namespaces of one lab ("hold"), and does the
// work inside them ("inside"). People do not call it.
package main

import (
	"errors"
	"fmt"
	"net"
	"os"
	"syscall"

	"kettlehole/internal/anchor"
	"kettlehole/internal/substrate/container"
)

func main() {
	if err := run(os.Args[1:]); err != nil {
		fmt.Fprintln(os.Stderr, "kettlehole-anchor:", err)
		os.Exit(1)
	}
}

func run(args []string) error {
	if len(args) != 2 {
		return errors.New("this program is started by kettlehole alone")
	}
	switch folder := args[1]; args[0] {
	case "hold":
		return anchor.Hold(folder)
	case "inside":
		syscall.CloseOnExec(3)
		file := os.NewFile(3, "worker socket")
		listener, err := net.FileListener(file)
		if err != nil {
			return fmt.Errorf("taking over the worker's socket: %w", err)
		}
		if err := file.Close(); err != nil {
			return err
		}
		return container.Inside(folder, listener)
	}
	return fmt.Errorf("%q is nothing this program does", args[0])
}
