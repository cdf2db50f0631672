package container

import "os/exec"

// FindRuntime gives the path of the workstation's OCI runtime, "" where there
// is none.
func FindRuntime() string {
	path, err := exec.LookPath("runc")
	if err != nil {
		return ""
	}
	return path
}
