// Package home knows where Kettlehole keeps its files: one state folder, and
// nothing outside of it.
package home

import (
	"fmt"
	"hash/fnv"
	"os"
	"path/filepath"
)

// Variable names the environment variable that moves the state folder.
const Variable = "KETTLEHOLE_HOME"

// Home is the path of the state folder, absolute.
type Home string

// Default gives the state folder of this user: what the variable says, else
// /var/lib/kettlehole for root, else one in the user's data folder (XDG Base
// Directory Specification).
func Default() (Home, error) {
	folder := os.Getenv(Variable)
	if folder == "" && os.Geteuid() == 0 {
		folder = "/var/lib/kettlehole"
	}
	if folder == "" {
		folder = os.Getenv("XDG_DATA_HOME")
		if folder == "" {
			user, err := os.UserHomeDir()
			if err != nil {
				return "", fmt.Errorf("finding the state folder: %w", err)
			}
			folder = filepath.Join(user, ".local", "share")
		}
		folder = filepath.Join(folder, "kettlehole")
	}
	folder, err := filepath.Abs(folder)
	if err != nil {
		return "", fmt.Errorf("finding the state folder: %w", err)
	}
	return Home(folder), nil
}

// Make makes the folders that must be there before anything else.
func (h Home) Make() error {
	if err := os.MkdirAll(h.Keepers(), 0o700); err != nil {
		return fmt.Errorf("making the state folder: %w", err)
	}
	return os.Chmod(string(h), 0o700)
}

// Ledger is the path of the database.
func (h Home) Ledger() string { return filepath.Join(string(h), "ledger.db") }

// Images is the folder of layers.
func (h Home) Images() string { return filepath.Join(string(h), "images") }

// Keepers is the folder of what keepers need for themselves.
func (h Home) Keepers() string { return filepath.Join(string(h), "keepers") }

// Keeper is a file of a lab's keeper: its "sock", "lock" or "log".
func (h Home) Keeper(lab, kind string) string { return filepath.Join(h.Keepers(), lab+"."+kind) }

// Lab is the folder of a lab.
func (h Home) Lab(name string) string { return filepath.Join(string(h), "labs", name) }

// ID is a lab's name made unique among the state folders of a workstation.
func (h Home) ID(lab string) string {
	hash := fnv.New32a()
	_, _ = hash.Write([]byte(h))
	return fmt.Sprintf("%s-%08x", lab, hash.Sum32())
}

// Group is the control group of the lab with this id, from the root of each
// hierarchy. Labs share no parent: one that is made would trip over another's
// that is just removed.
func Group(id string) string { return "/kettlehole-" + id }

// The files in a lab's folder with which ssh comes in: the folder of the lab's
// keys, and in it what ssh must know.
const (
	SSH       = "ssh"
	SSHConfig = "config"
)

// Retrieved is the folder, in a lab's, of what was retrieved from nodes.
const Retrieved = "retrieved"
