package mask_test

import (
	"bytes"
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
