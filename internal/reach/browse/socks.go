package browse

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"syscall"
)

// The numbers of RFC 1928.
const (
	version5      = 5
	noLogin       = 0
	noWay         = 0xff
	connect       = 1
	byIPv4        = 1
	byName        = 3
	byIPv6        = 4
	succeeded     = 0
	unreachable   = 4
	refused       = 5
	notSupported  = 7
	wrongAddress  = 8
	replyWithIPv4 = byIPv4
)

var errSocks = errors.New("the client does not speak SOCKS version 5 without a login")

// readSocks reads a client's greeting and request, answers the greeting, and
// gives where it wants to go. A request that cannot be granted is answered.
func readSocks(r io.Reader, w io.Writer) (host string, port uint16, err error) {
	var head [2]byte
	if _, err := io.ReadFull(r, head[:]); err != nil {
		return "", 0, err
	}
	methods := make([]byte, head[1])
	if _, err := io.ReadFull(r, methods); err != nil {
		return "", 0, err
	}
	chosen := byte(noWay)
	for _, m := range methods {
		if m == noLogin {
			chosen = noLogin
		}
	}
	if head[0] != version5 {
		return "", 0, errSocks
	}
	if _, err := w.Write([]byte{version5, chosen}); err != nil {
		return "", 0, err
	}
	if chosen == noWay {
		return "", 0, errSocks
	}
	var request [4]byte
	if _, err := io.ReadFull(r, request[:]); err != nil {
		return "", 0, err
	}
	if host, err = readHost(r, request[3]); err != nil {
		_, _ = w.Write(answer(wrongAddress))
		return "", 0, err
	}
	var number [2]byte
	if _, err := io.ReadFull(r, number[:]); err != nil {
		return "", 0, err
	}
	if request[0] != version5 || request[1] != connect {
		_, _ = w.Write(answer(notSupported))
		return "", 0, fmt.Errorf("the client asks for %d, and connections alone lead into a lab", request[1])
	}
	return host, binary.BigEndian.Uint16(number[:]), nil
}

func readHost(r io.Reader, kind byte) (string, error) {
	size := 0
	switch kind {
	case byIPv4:
		size = 4
	case byIPv6:
		size = 16
	case byName:
		var length [1]byte
		if _, err := io.ReadFull(r, length[:]); err != nil {
			return "", err
		}
		size = int(length[0])
	default:
		return "", fmt.Errorf("an address of kind %d is none that is known", kind)
	}
	text := make([]byte, size)
	if _, err := io.ReadFull(r, text); err != nil {
		return "", err
	}
	if kind == byName {
		return string(text), nil
	}
	address, _ := netip.AddrFromSlice(text)
	return address.String(), nil
}

func answer(code byte) []byte {
	return []byte{version5, code, 0, replyWithIPv4, 0, 0, 0, 0, 0, 0}
}

// socksReply tells how a request went.
func socksReply(err error) []byte {
	switch {
	case err == nil:
		return answer(succeeded)
	case errors.Is(err, syscall.ECONNREFUSED):
		return answer(refused)
	}
	return answer(unreachable)
}
