package mask

import (
	"bytes"
	"encoding/base64"
	"encoding/hex"
	"net/url"
)

// shortestWritten is the length in bytes from which the other writings of a
// secret are hidden, and how much of one must be certain.
const shortestWritten = 6

// base64Line is how many bytes a line of base64 holds, as tools wrap it (RFC
// 2045, section 6.8).
const base64Line = 57

// writings gives the forms of a secret that people know to read back: hex,
// percent-encoding (RFC 3986), and base64 (RFC 4648), also inside a longer text
// that is written so, and wrapped in lines.
func writings(secret []byte) [][]byte {
	if len(secret) < shortestWritten {
		return nil
	}
	lower := hex.EncodeToString(secret)
	all := [][]byte{[]byte(lower), bytes.ToUpper([]byte(lower))}
	if escaped := url.QueryEscape(string(secret)); escaped != string(secret) {
		all = append(all, []byte(escaped), []byte(url.PathEscape(string(secret))))
	}
	for _, encoding := range []*base64.Encoding{base64.StdEncoding, base64.URLEncoding} {
		for before := range 3 {
			all = add64(all, encoding, secret, before)
		}
		for at := 0; at < len(secret) && len(secret) > base64Line; at += base64Line {
			all = add64(all, encoding, secret[at:min(at+base64Line, len(secret))], 0)
		}
	}
	return all
}

// add64 adds those letters of the secret's base64 that do not depend on what
// stands around it, where so many bytes stand before it.
func add64(all [][]byte, encoding *base64.Encoding, secret []byte, before int) [][]byte {
	text := encoding.EncodeToString(append(make([]byte, before), secret...))
	first := (before*8 + 5) / 6
	last := (before + len(secret)) * 8 / 6
	if last-first < shortestWritten {
		return all
	}
	return append(all, []byte(text[first:last]))
}
