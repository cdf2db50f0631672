// Kettlehole-files serves the files of a node on its input and output, as SFTP
// (the drafts of secsh-filexfer, version 3), until its input ends. It lies in
// every node beside the init, which stays the smaller for it.
package main

import (
	"errors"
	"fmt"
	"io"
	"os"

	"github.com/pkg/sftp"
)

// streams are this process's input and output as one.
type streams struct {
	io.Reader
	io.WriteCloser
}

func main() {
	server, err := sftp.NewServer(streams{os.Stdin, os.Stdout}, sftp.WithServerWorkingDirectory("/root"))
	if err == nil {
		err = server.Serve()
	}
	if err != nil && !errors.Is(err, io.EOF) {
		fmt.Fprintln(os.Stderr, "kettlehole-files:", err)
		os.Exit(1)
	}
}
