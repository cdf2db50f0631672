// Kettlehole-init is the first process of a container node. It is started by
// the OCI runtime with a listening Unix socket as file descriptor 3, on which
// it serves the agent protocol.
package main

import (
	"fmt"
	"net"
	"os"
	"os/signal"
	"runtime"
	"runtime/debug"
	"sync"
	"syscall"

	"golang.org/x/sys/unix"

	"kettlehole/internal/agent/server"
)

func main() {
	if err := run(); err != nil {
		fmt.Fprintln(os.Stderr, "kettlehole-init:", err)
		os.Exit(1)
	}
}

// threads is how many threads the init keeps for itself.
const threads = 8

// keepThreads makes threads that the Go runtime then keeps and uses again. A
// Go program that cannot make a thread dies, and a node whose programs have
// used up its share of processes must not lose its init.
func keepThreads() {
	var started, ended sync.WaitGroup
	started.Add(threads)
	for range threads {
		ended.Go(func() {
			runtime.LockOSThread()
			defer runtime.UnlockOSThread()
			started.Done()
			started.Wait()
		})
	}
	ended.Wait()
}

func run() error {
	// Nothing is collected while the node starts, when many do at once; memory
	// is given back when the server comes to rest for the first time.
	debug.SetGCPercent(-1)
	keepThreads()
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
	// What was said so far is in a file of the workstation, which is none of
	// the node's business from here on.
	null, err := os.OpenFile(os.DevNull, os.O_RDWR, 0)
	if err != nil {
		return err
	}
	for fd := range 3 {
		if err := unix.Dup3(int(null.Fd()), fd, 0); err != nil {
			return fmt.Errorf("letting go of the console: %w", err)
		}
	}
	if err := null.Close(); err != nil {
		return err
	}
	return s.Serve(listener)
}
