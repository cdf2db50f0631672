package browse

import (
	"bufio"
	"bytes"
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os/exec"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"kettlehole/internal/testbed"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

// open serves a proxy whose only host is "web", a server of the test.
func open(t *testing.T) (at string) {
	web := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		_, _ = fmt.Fprintf(w, "%s %s%s %s", r.Method, r.Host, r.URL.Path, body)
	}))
	t.Cleanup(web.Close)
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	p := New(func(ctx context.Context, host string, port uint16) (net.Conn, error) {
		switch {
		case host == "gone":
			return nil, syscall.ECONNREFUSED
		case host != "web" && host != "10.61.0.5" && host != "fd61::5" || port != 80:
			return nil, fmt.Errorf("the lab has no host %q", host)
		}
		return (&net.Dialer{}).DialContext(ctx, "tcp", web.Listener.Addr().String())
	}, Script(listener.Addr().String(), "desk", [][2]string{{"10.61.0.0", "255.255.255.0"}}))
	var busy sync.WaitGroup
	busy.Go(func() { p.Serve(listener) })
	t.Cleanup(func() { require.NoError(t, listener.Close()); busy.Wait(); p.Close() })
	return listener.Addr().String()
}

func TestPlainRequests(t *testing.T) {
	at := open(t)
	through, err := url.Parse("http://" + at)
	require.NoError(t, err)
	client := http.Client{Transport: &http.Transport{Proxy: http.ProxyURL(through), DisableKeepAlives: true}}
	answer, err := client.Post("http://web/page", "text/plain", strings.NewReader("body"))
	require.NoError(t, err)
	text, err := io.ReadAll(answer.Body)
	require.NoError(t, err)
	require.NoError(t, answer.Body.Close())
	assert.Equal(t, "POST web/page body", string(text))
	answer, err = client.Get("http://elsewhere/")
	require.NoError(t, err)
	text, _ = io.ReadAll(answer.Body)
	require.NoError(t, answer.Body.Close())
	assert.Equal(t, http.StatusBadGateway, answer.StatusCode)
	assert.Contains(t, string(text), `no host "elsewhere"`)
	direct := http.Client{Transport: &http.Transport{DisableKeepAlives: true}}
	answer, err = direct.Get("http://" + at + ScriptPath)
	require.NoError(t, err)
	text, _ = io.ReadAll(answer.Body)
	require.NoError(t, answer.Body.Close())
	assert.Contains(t, string(text), `isInNet(host, "10.61.0.0", "255.255.255.0")) return "PROXY `+at)
	answer, err = direct.Get("http://" + at + "/")
	require.NoError(t, err)
	require.NoError(t, answer.Body.Close())
	assert.Equal(t, http.StatusNotFound, answer.StatusCode)
}

// The real client, by each of the ways.
func TestCurl(t *testing.T) {
	curl := testbed.Tool(t, "curl")
	at := open(t)
	for _, words := range [][]string{
		{"--proxy", "http://" + at, "http://web/x"},
		{"--proxytunnel", "--proxy", "http://" + at, "http://web/x"},
		{"--proxy", "socks5h://" + at, "http://web/x"},
	} {
		out, err := exec.Command(curl, append([]string{"-s", "-m", "10"}, words...)...).CombinedOutput()
		require.NoError(t, err, "%v: %s", words, out)
		assert.Equal(t, "GET web/x ", string(out), "%v", words)
	}
	out, err := exec.Command(curl, "-s", "-m", "10", "--proxy", "socks5://"+at, "http://10.61.0.5/x").CombinedOutput()
	require.NoError(t, err, "%s", out)
	assert.Equal(t, "GET 10.61.0.5/x ", string(out))
	for host, code := range map[string]int{"elsewhere": 97, "gone": 97} {
		err := exec.Command(curl, "-s", "-m", "10", "--proxy", "socks5h://"+at, "http://"+host+"/").Run()
		require.IsType(t, &exec.ExitError{}, err)
		assert.Equal(t, code, err.(*exec.ExitError).ExitCode(), host)
	}
}

// A client that hangs is let go, and one that speaks nonsense too.
func TestNonsense(t *testing.T) {
	at := open(t)
	for _, words := range []string{"\x05\x01\x02", "\x05\x01\x00\x05\x02\x00\x01\x0a\x3d\x00\x05\x00\x50", "\x05\x01\x00\x05\x01\x00\x09", "CONNECT web HTTP/1.1\r\nHost: web\r\n\r\n", "\x00", ""} {
		conn, err := net.Dial("tcp", at)
		require.NoError(t, err)
		_, err = conn.Write([]byte(words))
		require.NoError(t, err)
		require.NoError(t, conn.(*net.TCPConn).CloseWrite())
		require.NoError(t, conn.SetReadDeadline(time.Now().Add(5*time.Second)))
		_, err = io.ReadAll(conn)
		assert.NoError(t, err, "%q", words)
		require.NoError(t, conn.Close())
	}
}

func TestSocksByAddress6(t *testing.T) {
	at := open(t)
	conn, err := net.Dial("tcp", at)
	require.NoError(t, err)
	defer conn.Close()
	request := append([]byte{5, 1, 0, 5, 1, 0, 4}, net.ParseIP("fd61::5")...)
	_, err = conn.Write(append(request, 0, 80))
	require.NoError(t, err)
	got := make([]byte, 12)
	_, err = io.ReadFull(conn, got)
	require.NoError(t, err)
	assert.Equal(t, []byte{5, 0, 5, 0}, got[:4])
	_, err = conn.Write([]byte("GET /six HTTP/1.0\r\n\r\n"))
	require.NoError(t, err)
	answer, err := http.ReadResponse(bufio.NewReader(conn), nil)
	require.NoError(t, err)
	assert.Equal(t, 200, answer.StatusCode)
}

// Whatever a client says, it is read within its bounds, and what is understood
// is somewhere to go.
func FuzzSocks(f *testing.F) {
	f.Add([]byte("\x05\x01\x00\x05\x01\x00\x03\x03web\x00\x50"))
	f.Add([]byte("\x05\x02\x02\x00\x05\x01\x00\x01\x0a\x3d\x00\x05\x00\x50"))
	f.Fuzz(func(t *testing.T, text []byte) {
		var said bytes.Buffer
		_, _, err := readSocks(bytes.NewReader(text), &said)
		if err == nil {
			assert.Equal(t, []byte{5, 0}, said.Bytes(), "granted requests are answered later")
		}
		assert.LessOrEqual(t, said.Len(), 12)
	})
}
