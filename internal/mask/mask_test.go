package mask_test

import (
	"bytes"
	"encoding/base64"
	"encoding/hex"
	"net/url"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"kettlehole/internal/mask"
)

func TestText(t *testing.T) {
	var s mask.Set
	assert.Equal(t, "as it was", s.Text("as it was"))
	s.Add("hunter-42", "abc", "two\nlines")
	assert.Equal(t, "the word is "+mask.Dots+"!", s.Text("the word is hunter-42!"))
	assert.Equal(t, "abc", s.Text("abc"), "too short to hide")
	assert.Equal(t, "a line of "+mask.Dots, s.Text("a line of lines"))
	assert.Len(t, s.Texts(), 3)
}

func TestHoldsBackOnlyWhatMayBecomeASecret(t *testing.T) {
	var s mask.Set
	s.Add("secret")
	var out bytes.Buffer
	w := mask.NewWriter(&s, &out)
	for _, part := range []string{"a sec", "ond, a s", "ecr", "et, and se"} {
		_, err := w.Write([]byte(part))
		require.NoError(t, err)
	}
	assert.Equal(t, "a second, a "+mask.Dots+", and ", out.String())
	require.NoError(t, w.Flush())
	assert.Equal(t, "a second, a "+mask.Dots+", and se", out.String())
}

// However the writes are cut, the result is that of one write, and no secret
// is in it.
func TestCutAnywhere(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var s mask.Set
		secrets := rapid.SliceOfN(rapid.StringMatching(`[ab]{4,7}`), 1, 3).Draw(t, "secrets")
		s.Add(secrets...)
		text := rapid.StringMatching(`[ab]{0,40}`).Draw(t, "text")
		if rapid.Bool().Draw(t, "plant") {
			text += secrets[0] + text
		}
		var out bytes.Buffer
		w := mask.NewWriter(&s, &out)
		for rest := text; rest != ""; {
			n := rapid.IntRange(1, len(rest)).Draw(t, "cut")
			_, err := w.Write([]byte(rest[:n]))
			require.NoError(t, err)
			rest = rest[n:]
		}
		require.NoError(t, w.Flush())
		require.Equal(t, s.Text(text), out.String())
		for _, secret := range secrets {
			require.False(t, strings.Contains(out.String(), secret))
		}
	})
}

// What a secret looks like in other writings is hidden too, wherever it stands
// in them.
func TestWritings(t *testing.T) {
	secret := "pass-4711/+word"
	long := strings.Repeat("a long secret of many words ", 9)
	var s mask.Set
	s.Add(secret, long, "abcd")
	for _, text := range []string{secret, strings.TrimSpace(long)} {
		for before := range 4 {
			whole := strings.Repeat("x", before) + text + "and more"
			for name, written := range map[string]string{
				"base64": base64.StdEncoding.EncodeToString([]byte(whole)), "base64 for URLs": base64.URLEncoding.EncodeToString([]byte(whole)),
				"hex": hex.EncodeToString([]byte(whole)), "HEX": strings.ToUpper(hex.EncodeToString([]byte(whole))), "a query": "?" + url.QueryEscape(whole),
			} {
				shown := s.Text(written)
				assert.Contains(t, shown, mask.Dots, name)
				assert.LessOrEqual(t, len(strings.ReplaceAll(shown, mask.Dots, "")), len(written)-len(text), "%s: %s", name, shown)
			}
		}
	}
	for wrapped := base64.StdEncoding.EncodeToString([]byte(strings.TrimSpace(long))); len(wrapped) > 0; {
		line := wrapped[:min(76, len(wrapped))]
		wrapped = wrapped[len(line):]
		if len(line) > 12 {
			assert.Contains(t, s.Text(line), mask.Dots, line)
		}
	}
	assert.Equal(t, []string{secret, strings.TrimSpace(long), "abcd"}, s.Texts(), "only what was added is passed on")
	assert.Equal(t, "61626364 YWJjZA", s.Text("61626364 YWJjZA"), "a short one hides nothing but itself")
}
