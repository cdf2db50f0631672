package passing_test

import (
	"net"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kettlehole/internal/passing"
)

type words struct{ Error string }

// pair gives the two ends of a Unix connection.
func pair(t *testing.T) (*net.UnixConn, *net.UnixConn) {
	listener, err := net.ListenUnix("unix", &net.UnixAddr{Name: filepath.Join(t.TempDir(), "s")})
	require.NoError(t, err)
	defer listener.Close()
	near, err := net.DialUnix("unix", nil, listener.Addr().(*net.UnixAddr))
	require.NoError(t, err)
	far, err := listener.AcceptUnix()
	require.NoError(t, err)
	t.Cleanup(func() { _, _ = near.Close(), far.Close() })
	return near, far
}

// A socket that listens goes over, and outlives the one who sent it.
func TestListenerIsPassed(t *testing.T) {
	near, far := pair(t)
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	require.NoError(t, passing.Send(near, words{}, listener.(*net.TCPListener)))
	require.NoError(t, listener.Close())
	var got words
	file, err := passing.Receive(far, &got)
	require.NoError(t, err)
	require.NotNil(t, file)
	defer file.Close()
	passed, err := net.FileListener(file)
	require.NoError(t, err)
	defer passed.Close()
	conn, err := net.Dial("tcp", passed.Addr().String())
	require.NoError(t, err)
	require.NoError(t, conn.Close())
}

func TestWordsAlone(t *testing.T) {
	near, far := pair(t)
	_, err := near.Write([]byte("{\"Error\":\"refused\"}\n"))
	require.NoError(t, err)
	var got words
	file, err := passing.Receive(far, &got)
	require.NoError(t, err)
	assert.Nil(t, file)
	assert.Equal(t, "refused", got.Error)
}

func TestNonsense(t *testing.T) {
	near, far := pair(t)
	_, err := near.Write([]byte("nonsense\n"))
	require.NoError(t, err)
	_, err = passing.Receive(far, &words{})
	assert.Error(t, err)
	require.NoError(t, near.Close())
	_, err = passing.Receive(far, &words{})
	assert.Error(t, err)
}
