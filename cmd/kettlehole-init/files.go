package main

import (
	"errors"
	"io"
	"os"

	"github.com/pkg/sftp"
)

// streams are this process's input and output as one.
type streams struct {
	io.Reader
	io.WriteCloser
}

// serveFiles serves the files that this process can reach, until its input
// ends.
func serveFiles() error {
	server, err := sftp.NewServer(streams{os.Stdin, os.Stdout}, sftp.WithServerWorkingDirectory("/root"))
	if err != nil {
		return err
	}
	if err := server.Serve(); err != nil && !errors.Is(err, io.EOF) {
		return err
	}
	return nil
}
