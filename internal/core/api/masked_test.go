package api

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// TestMaskedFieldsAreNotKept: wherever they stand and whatever they hold; what cannot be looked into is not kept at all.
func TestMaskedFieldsAreNotKept(t *testing.T) {
	g := Guards{Masked: []string{"mail", "Card"}}
	for body, want := range map[string]string{
		`{"mail": "a@b", "n": 1.10}`:                                      `{"mail":"…","n":1.10}`,
		`[{"card":{"no":"4111","mail":"x"},"ok":[1,{"MAIL":["a","b"]}]}]`: `[{"card":"…","ok":[1,{"MAIL":"…"}]}]`,
		`"mail"`:             `"mail"`,
		`{"a":"mail"}`:       `{"a":"mail"}`,
		`{"mail":"a@b"`:      "",
		`<mail>a@b</mail>`:   "",
		`{"a":1} {"mail":1}`: "{\"a\":1}\n{\"mail\":\"…\"}",
		``:                   "",
	} {
		require.Equal(t, want, string(g.WithoutMasked([]byte(body))), body)
	}
	require.Equal(t, "<a/>", string(Guards{}.WithoutMasked([]byte("<a/>"))))
}
