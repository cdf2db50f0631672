// Kettlehole-init is the first process of a container node. It is started by
// the OCI runtime with a listening Unix socket as file descriptor 3, on which
// it serves the agent protocol.
package main

import (
	"fmt"
	"net"
	"os"
	"os/signal"
	"runtime/debug"
	"syscall"

	"kettlehole/internal/agent/server"
)

func main() {
	if err := run(); err != nil {
		fmt.Fprintln(os.Stderr, "kettlehole-init:", err)
		os.Exit(1)
	}
}

func run() error {
	debug.SetGCPercent(20)
	// Caught and dropped: ignored ones would stay ignored in every program of the node.
	signal.Notify(make(chan os.Signal, 1), syscall.SIGHUP, syscall.SIGINT)
	syscall.CloseOnExec(3)
	socket := os.NewFile(3, "management")
	listener, err := net.FileListener(socket)
	if err != nil {
		return fmt.Errorf("taking over the management socket: %w", err)
	}
	if err := socket.Close(); err != nil {
		return err
	}
	s, err := server.New(server.Options{Run: "/run/kettlehole", Logs: "/var/log/kettlehole"})
	if err != nil {
		return err
	}
	return s.Serve(listener)
}
