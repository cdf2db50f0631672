package main_test

import (
	"bytes"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/creack/pty"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"kettlehole/internal/testbed"
)

const reachLab = `
lab: %s
networks: {valley: {subnet: 10.61.0.0/24}}
groups:
  web:
    count: 3
    memory: 64M
    disk: 4G
    services: {page: {run: 'mkdir -p /srv; cd /srv; echo $NODE > index.html; exec python3 -m http.server 80'}}
forwards: {page: auto -> web-1:80}
fronts: {site: {address: valley.5, port: 8000, to: "web:80"}}
steps: {page: {on: all, start: page, wait: {port: 80}}, state: {on: web-1, run: "echo address: 10.61.0.11:80 > /root/state"}}
retrieve: {conf/state.txt: {from: "web-1:/root/state", replace: {"10.61.0.11:80": "{forward.page}"}}}
`

// reachable provisions the lab, and gives the words that make ssh know it.
func reachable(t *testing.T) (b *bench, name, config string) {
	testbed.Kernel(t)
	for _, tool := range []string{"ssh", "scp", "sftp", "rsync", "curl"} {
		testbed.Tool(t, tool)
	}
	b = newBench(t)
	name = fmt.Sprintf("reach-%d", os.Getpid())
	b.write("x.lab.yaml", fmt.Sprintf(reachLab, name))
	t.Cleanup(func() { b.run("teardown", name, "--yes") })
	b.ok("provision")
	config = b.write("ssh.conf", b.ok("access"))
	require.NoError(t, os.Chmod(config, 0o600))
	return b, name, config
}

// client runs a real client with some input, and gives what it printed and its
// exit code.
func (b *bench) client(input string, words ...string) (string, int) {
	b.t.Helper()
	cmd := exec.Command(words[0], words[1:]...)
	cmd.Dir, cmd.Env = b.folder, append(b.env, "GREETING=hello from afar")
	if input != "" {
		cmd.Stdin = strings.NewReader(input)
	}
	out, err := cmd.CombinedOutput()
	if _, exited := err.(*exec.ExitError); !exited {
		require.NoError(b.t, err)
	}
	return string(out), cmd.ProcessState.ExitCode()
}

func TestSSH(t *testing.T) {
	b, name, config := reachable(t)
	host := "web-2." + name
	ssh := func(words ...string) (string, int) {
		return b.client("", append([]string{"ssh", "-n", "-F", config}, words...)...)
	}
	out, code := ssh(host, "hostname; echo to the other >&2; exit 42")
	assert.Equal(t, 42, code)
	assert.Equal(t, "web-2\nto the other\n", out)
	out, code = ssh("-o", "SendEnv=GREETING", host, `echo "$GREETING in $LAB"`)
	assert.Zero(t, code)
	assert.Equal(t, "hello from afar in "+name+"\n", out)
	out, code = b.client(strings.Repeat("words\n", 100_000), "ssh", "-F", config, host, "tr a-z A-Z | sort | uniq -c")
	assert.Zero(t, code)
	assert.Equal(t, "100000 WORDS", strings.TrimSpace(out))
	out, code = ssh("web-9."+name, "true")
	assert.Equal(t, 255, code)
	assert.Contains(t, out, `there is no node "web-9"`)
	out, code = ssh(host, "kill -TERM $$")
	assert.Equal(t, 143, code, out)
	for _, refused := range [][]string{{"-A", host, `test -z "$SSH_AUTH_SOCK"`}, {"-o", "ForwardX11=yes", host, `test -z "$DISPLAY"`}} {
		_, code = ssh(refused...)
		assert.Zero(t, code, "%v", refused)
	}
	// Nobody's own files are touched, and the lab's keys are its owner's alone.
	assert.NoFileExists(t, filepath.Join(b.folder, ".ssh", "known_hosts"))
	var facts struct{ Config, Key, Known string }
	require.NoError(t, json.Unmarshal([]byte(b.ok("access", "--json")), &facts))
	for _, file := range []string{facts.Config, facts.Key, facts.Known} {
		info, err := os.Stat(file)
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o600), info.Mode().Perm(), file)
	}
	// The host is who it says: with the keys of another lab ssh refuses.
	other := b.write("other", "@cert-authority * ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIJpTn0uqVEJVQoFYIVCDMXkTbqTtOFfCYGzFq1FDDZ2v\n")
	out, code = ssh("-o", "UserKnownHostsFile="+other, host, "true")
	assert.Equal(t, 255, code)
	assert.Contains(t, out, "Host key verification failed")
	// Included in a file of one's own, it works for every lab.
	own := b.write("own.conf", b.ok("access", "--include"))
	require.NoError(t, os.Chmod(own, 0o600))
	out, code = b.client("", "ssh", "-n", "-F", own, host, "hostname")
	assert.Zero(t, code, out)
	assert.Equal(t, "web-2\n", out)
}

// A terminal on the node: its size, its change, keys that interrupt.
func TestSSHTerminal(t *testing.T) {
	b, name, config := reachable(t)
	cmd := exec.Command("ssh", "-tt", "-F", config, "web-1."+name)
	cmd.Env = append(b.env, "TERM=xterm-256color")
	screen, err := pty.StartWithSize(cmd, &pty.Winsize{Rows: 31, Cols: 97})
	require.NoError(t, err)
	defer screen.Close()
	heard := make(chan string, 1000)
	go func() {
		buffer := make([]byte, 4096)
		for {
			n, err := screen.Read(buffer)
			if err != nil {
				close(heard)
				return
			}
			heard <- string(buffer[:n])
		}
	}()
	all := ""
	expect := func(words string) {
		t.Helper()
		for deadline := time.After(15 * time.Second); !strings.Contains(all, words); {
			select {
			case more, open := <-heard:
				require.True(t, open || strings.Contains(all+more, words), "it ended with:\n%s", all)
				all += more
			case <-deadline:
				require.Fail(t, "no "+words, all)
			}
		}
		all = all[strings.Index(all, words)+len(words):]
	}
	send := func(words string) { _, err := screen.WriteString(words); require.NoError(t, err) }
	send("stty size; echo $TERM is the kind; tty\n")
	expect("31 97")
	expect("xterm-256color is the kind")
	expect("/dev/pts/")
	require.NoError(t, pty.Setsize(screen, &pty.Winsize{Rows: 17, Cols: 71}))
	time.Sleep(200 * time.Millisecond)
	send("stty size\n")
	expect("17 71")
	send("sleep 100; echo code $?\n")
	time.Sleep(300 * time.Millisecond)
	send("\x03")
	send("echo interrupted after all | tr a-z A-Z\n")
	expect("INTERRUPTED AFTER ALL")
	send("exit 7\n")
	err = cmd.Wait()
	require.IsType(t, &exec.ExitError{}, err)
	assert.Equal(t, 7, err.(*exec.ExitError).ExitCode())
}

// A client that goes away takes what it ran along.
func TestSSHHangsUp(t *testing.T) {
	b, name, config := reachable(t)
	cmd := exec.Command("ssh", "-F", config, "web-1."+name, "echo $$ > /root/pid; exec sleep 1000")
	cmd.Env = b.env
	require.NoError(t, cmd.Start())
	require.Eventually(t, func() bool { out, _, _ := b.run("exec", "web-1", "--", "cat", "/root/pid"); return out != "" }, 10*time.Second, 50*time.Millisecond)
	require.NoError(t, cmd.Process.Kill())
	_ = cmd.Wait()
	pid := strings.TrimSpace(b.ok("exec", "web-1", "--", "cat", "/root/pid"))
	require.Eventually(t, func() bool {
		_, _, code := b.run("exec", "web-1", "--", "test", "!", "-d", "/proc/"+pid)
		return code == 0
	}, 10*time.Second, 50*time.Millisecond)
}

// freeAddress is an address of loopback on which nobody listens.
func freeAddress(t *testing.T) string {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer listener.Close()
	return listener.Addr().String()
}

// eventuallyFetched fetches until it works, while ssh opens its port.
func (b *bench) eventuallyFetched(words ...string) string {
	b.t.Helper()
	out, code := "", 1
	for deadline := time.Now().Add(15 * time.Second); code != 0 && time.Now().Before(deadline); time.Sleep(50 * time.Millisecond) {
		out, code = b.client("", append([]string{"curl", "-s", "-m", "5"}, words...)...)
	}
	require.Zero(b.t, code, out)
	return out
}

// Ports that lead in, out, and wherever a client wants.
func TestSSHPorts(t *testing.T) {
	b, name, config := reachable(t)
	in, dynamic := freeAddress(t), freeAddress(t)
	mine, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer mine.Close()
	go func() {
		for {
			conn, err := mine.Accept()
			if err != nil {
				return
			}
			_, _ = io.WriteString(conn, "the workstation's words\n")
			_ = conn.Close()
		}
	}()
	cmd := exec.Command("ssh", "-N", "-F", config, "-o", "ExitOnForwardFailure=yes", "-L", in+":web-3:80", "-D", dynamic, "-R", "7777:"+mine.Addr().String(), "web-1."+name)
	cmd.Env = b.env
	require.NoError(t, cmd.Start())
	defer func() { _ = cmd.Process.Kill(); _ = cmd.Wait() }()
	assert.Equal(t, "web-3\n", b.eventuallyFetched("http://"+in+"/"))
	assert.Equal(t, "web-2\n", b.eventuallyFetched("--proxy", "socks5h://"+dynamic, "http://web-2/"))
	assert.Equal(t, "web-", b.eventuallyFetched("--proxy", "socks5h://"+dynamic, "http://site:8000/")[:4])
	assert.Equal(t, "the workstation's words\n", b.ok("exec", "web-1", "--", "python3", "-c", "import socket; print(socket.create_connection(('127.0.0.1', 7777)).recv(100).decode(), end='')"))
	_, code := b.client("", "curl", "-s", "-m", "5", "--proxy", "socks5h://"+dynamic, "http://nobody/")
	assert.NotZero(t, code)
}

// A thousand million bytes through scp, and trees through sftp and rsync,
// arrive as they were.
func TestSSHFiles(t *testing.T) {
	b, name, config := reachable(t)
	big := filepath.Join(b.folder, "big")
	file, err := os.Create(big)
	require.NoError(t, err)
	sum := sha256.New()
	noise := rand.NewChaCha8([32]byte{1})
	block := make([]byte, 1_000_000)
	for range 1000 {
		_, _ = noise.Read(block)
		_, _ = sum.Write(block)
		_, err := file.Write(block)
		require.NoError(t, err)
	}
	require.NoError(t, file.Close())
	out, code := b.client("", "scp", "-q", "-F", config, big, "web-1."+name+":/root/big")
	require.Zero(t, code, out)
	assert.Equal(t, fmt.Sprintf("%x  /root/big\n", sum.Sum(nil)), b.ok("exec", "web-1", "--", "sha256sum", "/root/big"))
	b.ok("exec", "web-1", "--", "rm", "/root/big")
	require.NoError(t, os.Remove(big))

	require.NoError(t, os.MkdirAll(filepath.Join(b.folder, "tree", "deep"), 0o755))
	b.write("tree/one", "first\n")
	b.write("tree/deep/two", "second\n")
	out, code = b.client("", "rsync", "-a", "-e", "ssh -F "+config, "tree", "web-2."+name+":/root/")
	require.Zero(t, code, out)
	b.write("tree/deep/two", "changed\n")
	out, code = b.client("", "rsync", "-a", "--itemize-changes", "-e", "ssh -F "+config, "tree", "web-2."+name+":/root/")
	require.Zero(t, code, out)
	assert.Contains(t, out, "tree/deep/two")
	assert.NotContains(t, out, "tree/one")
	out, code = b.client("cd tree/deep\nrename two three\nput tree/one four\nls\nget three back\n", "sftp", "-q", "-F", config, "web-2."+name)
	require.Zero(t, code, out)
	assert.Contains(t, out, "four")
	text, err := os.ReadFile(filepath.Join(b.folder, "back"))
	require.NoError(t, err)
	assert.Equal(t, "changed\n", string(text))
	out, code = b.client("", "scp", "-q", "-r", "-F", config, "web-2."+name+":/root/tree", filepath.Join(b.folder, "fetched"))
	require.Zero(t, code, out)
	assert.FileExists(t, filepath.Join(b.folder, "fetched", "deep", "three"))
}

// On a port of loopback ssh comes in too, with the lab's key alone, until it is
// closed again.
func TestSSHPort(t *testing.T) {
	b, name, config := reachable(t)
	words := b.ok("access", "--port", "auto")
	assert.Contains(t, words, "ssh comes in on 127.0.0.1:")
	port := strings.Split(strings.SplitN(words, "127.0.0.1:", 2)[1], ";")[0]
	var facts struct{ Key, Known, Port string }
	require.NoError(t, json.Unmarshal([]byte(b.ok("access", "--json")), &facts))
	assert.Equal(t, "127.0.0.1:"+port, facts.Port)
	bare := []string{"ssh", "-n", "-F", "none", "-o", "IdentityAgent=none", "-o", "BatchMode=yes", "-o", "UserKnownHostsFile=" + facts.Known, "-o", "HostKeyAlias=lab." + name, "-p", port}
	out, code := b.client("", append(bare, "-i", facts.Key, "web-3@127.0.0.1", "hostname")...)
	assert.Zero(t, code, out)
	assert.Equal(t, "web-3\n", out)
	out, code = b.client("", append(bare, "-o", "IdentityFile=none", "web-3@127.0.0.1", "hostname")...)
	assert.Equal(t, 255, code)
	assert.Contains(t, out, "Permission denied")
	printed := strings.Fields(strings.Split(words, "\n")[1])
	out, code = b.client("", append([]string{printed[0], "-n"}, append(printed[1:], "hostname")...)...)
	assert.Zero(t, code, "the line that it prints works: %s", out)
	assert.Equal(t, "web-1\n", out)
	b.killKeeper(name)
	b.ok("status")
	out, code = b.client("", append(bare, "-i", facts.Key, "web-3@127.0.0.1", "hostname")...)
	assert.Zero(t, code, "it outlives the keeper: %s", out)
	_, errs, code := b.run("access", "--port", "lots")
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "auto or off")
	assert.Contains(t, b.ok("access", "--port", "off"), "by its socket alone")
	_, err := net.Dial("tcp", "127.0.0.1:"+port)
	assert.Error(t, err)
	_, _ = b.client("", "ssh", "-n", "-F", config, "web-1."+name, "true")
}

// killKeeper kills the keeper of a lab.
func (b *bench) killKeeper(lab string) {
	b.t.Helper()
	processes, err := filepath.Glob("/proc/[0-9]*/cmdline")
	require.NoError(b.t, err)
	for _, path := range processes {
		text, _ := os.ReadFile(path)
		env, _ := os.ReadFile(filepath.Join(filepath.Dir(path), "environ"))
		words := strings.Split(string(text), "\x00")
		if len(words) > 2 && words[1] == "keeper" && words[2] == lab && strings.Contains(string(env), "KETTLEHOLE_HOME="+b.home()+"\x00") {
			pid, err := strconv.Atoi(filepath.Base(filepath.Dir(path)))
			require.NoError(b.t, err)
			require.NoError(b.t, unix.Kill(pid, unix.SIGKILL))
			return
		}
	}
	b.t.Fatal("no keeper was found")
}

// A keeper that is killed in the middle: what goes over a node's own connection
// goes on, and new connections work within a second of its return.
func TestKeeperIsKilledInTheMiddle(t *testing.T) {
	b, name, config := reachable(t)
	cmd := b.command("exec", "web-1", "--", "sh", "-c", "sleep 2; echo went on")
	var out bytes.Buffer
	cmd.Stdout = &out
	require.NoError(t, cmd.Start())
	time.Sleep(300 * time.Millisecond)
	b.killKeeper(name)
	require.NoError(t, cmd.Wait())
	assert.Equal(t, "went on\n", out.String())
	b.ok("status") // it is back
	back := time.Now()
	said, code := b.client("", "ssh", "-n", "-F", config, "web-2."+name, "hostname")
	require.Zero(t, code, said)
	var env map[string]string
	require.NoError(t, json.Unmarshal([]byte(b.ok("env", "--json")), &env))
	said, code = b.client("", "curl", "-s", "-m", "5", "http://"+env["LAB_FORWARD_PAGE"]+"/")
	assert.Zero(t, code)
	assert.Equal(t, "web-1\n", said)
	t.Logf("after %v", time.Since(back))
}

// A person with another uid reaches neither socket nor keys.
func TestOtherPeopleStayOut(t *testing.T) {
	b, name, _ := reachable(t)
	var facts struct{ Key string }
	require.NoError(t, json.Unmarshal([]byte(b.ok("access", "--json")), &facts))
	for folder := b.home(); folder != "/" && folder != os.TempDir(); folder = filepath.Dir(folder) {
		require.NoError(t, os.Chmod(folder, 0o755)) // even where the way there is open
	}
	socket := filepath.Join(b.home(), "keepers", name+".sock")
	script := fmt.Sprintf(`
import socket, sys
try:
    s = socket.socket(socket.AF_UNIX); s.connect(%q)
    s.sendall(b"GET /state HTTP/1.0\r\n\r\n"); print("reached", s.recv(100))
except OSError as e: print("socket:", type(e).__name__)
try: print("read", open(%q).read(20))
except OSError as e: print("key:", type(e).__name__)
`, socket, facts.Key)
	cmd := exec.Command("/usr/bin/python3", "-c", script)
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 65534, Gid: 65534}}
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
	assert.Equal(t, "socket: PermissionError\nkey: PermissionError\n", string(out))
}

// Commands for many, files both ways, what a shell needs, and a browser's way
// in.
func TestReachCommands(t *testing.T) {
	b, name, _ := reachable(t)
	out := b.ok("exec", "all", "--", "sh", "-c", `echo same; [ $NODE = web-2 ] && echo more; echo end`)
	assert.Equal(t, "2 nodes, exit code 0: web-1, web-3\n    same\n    end\n\n1 node, exit code 0: web-2\n    same\n  + more\n    end\n", out)
	out, _, code := b.run("exec", "web-1..2", "--", "sh", "-c", `[ $NODE = web-1 ] || exit 5`)
	assert.Equal(t, 5, code)
	assert.Contains(t, out, "1 node, exit code 5: web-2")
	out, _, code = b.run("exec", "all", "--within", "300ms", "--", "sh", "-c", `[ $NODE = web-1 ] || sleep 60`)
	assert.Equal(t, 255, code)
	assert.Contains(t, out, "2 nodes, no answer within 300ms: web-2..3")
	var groups []struct {
		Nodes []string
		Exit  int
	}
	require.NoError(t, json.Unmarshal([]byte(b.ok("exec", "all", "--json", "--", "true")), &groups))
	require.Len(t, groups, 1)
	assert.Equal(t, []string{"web-1", "web-2", "web-3"}, groups[0].Nodes)
	_, errs, code := b.run("exec", "wbe", "--", "true")
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "wbe")

	b.write("settings", "colour = blue\n")
	assert.Contains(t, b.ok("copy", "settings", "web:/etc/desk/"), "3 files, 42 B")
	assert.Contains(t, b.ok("exec", "all", "--", "cat", "/etc/desk/settings"), "3 nodes, exit code 0")
	assert.Contains(t, b.ok("copy", "web-1..2:/etc/desk", "got/"), "4 files")
	text, err := os.ReadFile(filepath.Join(b.folder, "got", "web-2", "desk", "settings"))
	require.NoError(t, err)
	assert.Equal(t, "colour = blue\n", string(text))
	b.ok("copy", "web-1:/etc/desk/settings", "renamed")
	assert.FileExists(t, filepath.Join(b.folder, "renamed"))
	_, errs, code = b.run("copy", "web-1:/no/such", ".")
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "web-1: /no/such: no such file")
	for _, wrong := range [][]string{{"copy", "here", "there"}, {"copy", "web-1:/a", "web-2:/b"}, {"copy", "missing", "web:/"}, {"copy", "web-1:", "."}} {
		_, _, code = b.run(wrong...)
		assert.Equal(t, 2, code, "%v", wrong)
	}

	var env map[string]string
	require.NoError(t, json.Unmarshal([]byte(b.ok("env", "--json")), &env))
	assert.Contains(t, b.ok("env"), "export LAB='"+name+"'\n")
	retrieved, err := os.ReadFile(env["LAB_FILE_CONF_STATE_TXT"])
	require.NoError(t, err)
	assert.Equal(t, "address: "+env["LAB_FORWARD_PAGE"]+"\n", string(retrieved))
	info, err := os.Stat(env["LAB_FILE_CONF_STATE_TXT"])
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	require.NoError(t, os.WriteFile(env["LAB_FILE_CONF_STATE_TXT"], []byte("mine now\n"), 0o600))
	_, errs, code = b.run("provision")
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "was changed since it was written")
	kept, err := os.ReadFile(env["LAB_FILE_CONF_STATE_TXT"])
	require.NoError(t, err)
	assert.Equal(t, "mine now\n", string(kept))
	require.NoError(t, os.Remove(env["LAB_FILE_CONF_STATE_TXT"]))
	b.ok("provision")

	at := freeAddress(t)
	proxy := b.command("proxy", "--at", at)
	require.NoError(t, proxy.Start())
	defer func() { _ = proxy.Process.Signal(os.Interrupt); assert.NoError(t, proxy.Wait()) }()
	for _, words := range [][]string{
		{"--proxy", "http://" + at, "http://web-2/"}, {"--proxytunnel", "--proxy", "http://" + at, "http://web-2." + name + "/"},
		{"--proxy", "socks5h://" + at, "http://web-2." + name + ".internal/"}, {"--proxy", "socks5://" + at, "http://10.61.0.12/"}} {
		assert.Equal(t, "web-2\n", b.eventuallyFetched(words...), "%v", words)
	}
	assert.Contains(t, b.eventuallyFetched("--proxy", "socks5h://"+at, "http://site:8000/"), "web-")
	out, _ = b.client("", "curl", "-s", "-m", "5", "--proxy", "http://"+at, "http://127.0.0.1/")
	assert.Contains(t, out, "no host of the lab", "it leads into the lab and nowhere else")
	_, _, code = b.run("proxy", "--at", "0.0.0.0:3128")
	assert.Equal(t, 2, code)

	assert.Contains(t, b.ok("forward", "add", "auto", "web-2:80", "--name", "second"), "leads to web-2:80")
	require.NoError(t, json.Unmarshal([]byte(b.ok("env", "--json")), &env))
	assert.Equal(t, "web-2\n", b.eventuallyFetched("http://"+env["LAB_FORWARD_SECOND"]+"/"))
	assert.Contains(t, b.ok("forward"), "added by hand")
	assert.Contains(t, b.ok("forward", "write", "second"), "second: auto -> web-2:80")
	b.ok("provision")
	assert.NotContains(t, b.ok("forward", "list"), "added by hand")
	_, errs, code = b.run("forward", "remove", "second")
	assert.Equal(t, 1, code)
	assert.Contains(t, errs, "stands in the lab file")
	_, errs, code = b.run("forward", "add", "9090", "-")
	assert.Equal(t, 2, code)
	assert.Contains(t, errs, "the shell took the arrow")
	assert.Contains(t, b.ok("teardown", "--yes"), "nothing was left behind")
}
