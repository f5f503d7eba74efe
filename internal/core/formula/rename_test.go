package formula

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// TestANameIsRenamedWhereItStandsAsAWhole: not in texts, not as a part of another, not as another's field.
func TestANameIsRenamedWhereItStandsAsAWhole(t *testing.T) {
	for source, want := range map[string]string{
		"answer.status >= 400":                              "response.status >= 400",
		`answer + x.answer + answers + "answer" + 'answer'`: `response + x.answer + answers + "answer" + 'answer'`,
		"`answer` + answer":                                 "`answer` + response",
		`"a \" answer" + answer`:                            `"a \" answer" + response`,
		"status":                                            "status",
	} {
		require.Equal(t, want, RenameName(source, "answer", "response"), source)
	}
	require.Equal(t, "x.no + no", RenameName("x.qty + no", ".qty", ".no"))
}
