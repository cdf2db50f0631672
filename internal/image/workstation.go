package image

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
)

// Workstation gives the entries of the image "workstation": a root of our own
// that stands over the workstation's /usr, which every node mounts read-only.
// init is our init's executable.
//
// Of the workstation's /etc the image takes only what programs in /usr cannot
// do without, and of that only what every user of the workstation may read.
func Workstation(init, files string) ([]Entry, error) {
	entries := folders("dev", "etc", "etc/alternatives", "etc/ssl", "home", "mnt", "opt", "opt/kettlehole", "opt/lab", "opt/lab/bin", "proc", "run", "srv", "sys", "usr",
		"var", "var/cache", "var/lib", "var/lib/misc", "var/local", "var/log", "var/log/kettlehole", "var/mail", "var/opt", "var/spool")
	entries = append(entries,
		Entry{Path: "root", Mode: fs.ModeDir | 0o700},
		Entry{Path: "tmp", Mode: fs.ModeDir | fs.ModeSticky | 0o777},
		Entry{Path: "var/tmp", Mode: fs.ModeDir | fs.ModeSticky | 0o777},
		Entry{Path: "var/run", Link: "/run"}, Entry{Path: "var/lock", Link: "/run/lock"},
		Entry{Path: "opt/kettlehole/init", Mode: 0o755, Source: init},
		Entry{Path: "opt/kettlehole/files", Mode: 0o755, Source: files},
	)
	for _, name := range []string{"bin", "lib", "lib32", "lib64", "libx32", "sbin"} {
		target, err := os.Readlink("/" + name)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if target = strings.TrimPrefix(target, "/"); err != nil || !strings.HasPrefix(target, "usr/") {
			return nil, fmt.Errorf("the workstation's /%s is no link into /usr, and the image \"workstation\" needs that", name)
		}
		entries = append(entries, Entry{Path: name, Link: target})
	}
	names := make([]string, 0, len(ownFiles))
	for name := range ownFiles {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		mode := fs.FileMode(0o644)
		if name == "etc/shadow" {
			mode = 0o600
		}
		entries = append(entries, Entry{Path: name, Mode: mode, Data: ownFiles[name]})
	}
	entries = append(entries, Entry{Path: "etc/os-release", Link: "../usr/lib/os-release"}, Entry{Path: "etc/mtab", Link: "../proc/self/mounts"})
	taken, err := fromEtc()
	return append(entries, taken...), err
}

func folders(paths ...string) []Entry {
	var entries []Entry
	for _, path := range paths {
		entries = append(entries, Entry{Path: path, Mode: fs.ModeDir | 0o755})
	}
	return entries
}

// ownFiles are the files of /etc that nodes have from us.
var ownFiles = map[string]string{
	"etc/passwd": `root:x:0:0:root:/root:/bin/bash
daemon:x:1:1:daemon:/usr/sbin:/usr/sbin/nologin
bin:x:2:2:bin:/bin:/usr/sbin/nologin
sys:x:3:3:sys:/dev:/usr/sbin/nologin
mail:x:8:8:mail:/var/mail:/usr/sbin/nologin
www-data:x:33:33:www-data:/var/www:/usr/sbin/nologin
nobody:x:65534:65534:nobody:/nonexistent:/usr/sbin/nologin
`,
	"etc/group": `root:x:0:
daemon:x:1:
bin:x:2:
sys:x:3:
adm:x:4:
tty:x:5:
disk:x:6:
mail:x:8:
www-data:x:33:
shadow:x:42:
utmp:x:43:
users:x:100:
nogroup:x:65534:
`,
	"etc/shadow": `root:*:20000:0:99999:7:::
nobody:*:20000:0:99999:7:::
`,
	"etc/nsswitch.conf": `passwd:    files
group:     files
shadow:    files
hosts:     files dns
networks:  files
protocols: files
services:  files
ethers:    files
rpc:       files
`,
	"etc/resolv.conf": "# This lab has no name server; names stand in /etc/hosts.\n",
	"etc/host.conf":   "multi on\n",
	"etc/networks":    "loopback 127.0.0.0\n",
	"etc/machine-id":  "",
	"etc/shells":      "/bin/sh\n/bin/bash\n",
	"etc/profile": `export PATH=/opt/lab/bin:/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin
if [ -n "$BASH_VERSION" ] && [ -r /etc/bash.bashrc ]; then . /etc/bash.bashrc; fi
`,
	"etc/bash.bashrc": `case $- in *i*) PS1='\h:\w\$ ' ;; esac
`,
}

// etcFiles are what programs need from the workstation's /etc: the loader's
// cache, port and protocol names, the trust in certificate authorities, the
// time zone, names of routing tables. A name ending in a slash is a folder.
var etcFiles = []string{
	"ca-certificates.conf", "ethertypes", "inputrc", "iproute2/", "ld.so.cache", "ld.so.conf", "ld.so.conf.d/", "localtime",
	"mime.types", "protocols", "rpc", "services", "ssl/certs/", "ssl/openssl.cnf", "terminfo/", "timezone",
}

// fromEtc takes files from the workstation's /etc, in the order of names.
func fromEtc() ([]Entry, error) {
	var entries []Entry
	for _, name := range etcFiles {
		folder, isFolder := strings.CutSuffix(name, "/")
		if !isFolder {
			one, err := etcFile(name)
			if err != nil {
				return nil, err
			}
			entries = append(entries, one...)
			continue
		}
		entries = append(entries, Entry{Path: "etc/" + folder, Mode: fs.ModeDir | 0o755})
		files, err := os.ReadDir("/etc/" + folder)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return nil, fmt.Errorf("reading /etc/%s: %w", folder, err)
		}
		for _, file := range files {
			one, err := etcFile(folder + "/" + file.Name())
			if err != nil {
				return nil, err
			}
			entries = append(entries, one...)
		}
	}
	alternatives, err := os.ReadDir("/etc/alternatives")
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("reading /etc/alternatives: %w", err)
	}
	for _, file := range alternatives {
		target, err := os.Readlink("/etc/alternatives/" + file.Name())
		if err == nil && strings.HasPrefix(target, "/usr/") {
			entries = append(entries, Entry{Path: "etc/alternatives/" + file.Name(), Link: target})
		}
	}
	return entries, nil
}

// etcFile takes one file of /etc, or nothing where it is absent, no regular
// file, or not everybody's to read. A link that stays among what nodes have is
// taken as a link.
func etcFile(name string) ([]Entry, error) {
	path := "/etc/" + name
	if target, err := os.Readlink(path); err == nil {
		full := target
		if !filepath.IsAbs(target) {
			full = filepath.Join(filepath.Dir(path), target)
		}
		if strings.HasPrefix(full, "/usr/") || filepath.Dir(full) == "/etc/ssl/certs" {
			return []Entry{{Path: "etc/" + name, Link: target}}, nil
		}
	}
	real, err := filepath.EvalSymlinks(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	} else if err != nil {
		return nil, fmt.Errorf("reading %s: %w", path, err)
	}
	info, err := os.Stat(real)
	if err != nil {
		return nil, fmt.Errorf("reading %s: %w", path, err)
	}
	if !info.Mode().IsRegular() || info.Mode().Perm()&0o004 == 0 {
		return nil, nil
	}
	return []Entry{{Path: "etc/" + name, Mode: 0o644, Source: real}}, nil
}

// Programs gives the entries of a layer that puts the executable files of a
// folder on every node's PATH. An empty folder name gives an empty layer.
func Programs(folder string) ([]Entry, error) {
	entries := folders("opt", "opt/lab", "opt/lab/bin")
	if folder == "" {
		return entries, nil
	}
	files, err := os.ReadDir(folder)
	if err != nil {
		return nil, fmt.Errorf("reading the lab's programs: %w", err)
	}
	for _, file := range files {
		info, err := os.Stat(filepath.Join(folder, file.Name()))
		if err != nil {
			return nil, fmt.Errorf("reading the lab's programs: %w", err)
		}
		if info.Mode().IsRegular() && info.Mode()&0o111 != 0 {
			entries = append(entries, Entry{Path: "opt/lab/bin/" + file.Name(), Mode: 0o755, Source: filepath.Join(folder, file.Name())})
		}
	}
	return entries, nil
}
