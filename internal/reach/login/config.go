package login

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
)

// Config is what the ordinary client must know of a lab (ssh_config(5)): every
// node is NODE.LAB. folder holds the lab's keys; through is the command, with
// its arguments, that passes a connection to the node %h.
func Config(lab, folder string, through []string) string {
	var command []string
	for _, word := range through {
		command = append(command, quote(word))
	}
	path := func(name string) string {
		return `"` + strings.ReplaceAll(filepath.Join(folder, name), "%", "%%") + `"`
	}
	return fmt.Sprintf(`# The nodes of the lab %[1]s. Made by kettlehole, and gone with the lab.
Host %[2]s
  User root
  ProxyCommand %[3]s
  ProxyUseFdpass yes
  IdentityFile %[4]s
  IdentitiesOnly yes
  IdentityAgent none
  UserKnownHostsFile %[5]s
  GlobalKnownHostsFile none
  StrictHostKeyChecking yes
  UpdateHostKeys no
  CheckHostIP no
  ForwardAgent no
  Ciphers ^aes128-gcm@openssh.com
  LogLevel ERROR
`, lab, Pattern(lab), strings.Join(command, " "), path(clientKey), path(Known))
}

// quote makes a word safe for the shell that runs a ProxyCommand, in which %%
// stands for a percent sign.
func quote(word string) string {
	if word == "%h" {
		return word
	}
	return "'" + strings.ReplaceAll(strings.ReplaceAll(word, "'", `'\''`), "%", "%%") + "'"
}

// WriteConfig keeps the config of a lab in a file, for its owner alone.
func WriteConfig(path, config string) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return fmt.Errorf("writing what ssh must know: %w", err)
	}
	if err := replace(path, []byte(config)); err != nil {
		return fmt.Errorf("writing what ssh must know: %w", err)
	}
	return nil
}
