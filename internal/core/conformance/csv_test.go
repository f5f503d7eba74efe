package conformance

import (
	"bytes"
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/delimited"
	hrjson "hollowreed/internal/core/notation/json"
)

// delimitedFiles runs cases of delimited text: each file gives the records of the JSON document beside it.
func delimitedFiles(t *testing.T, dir string, tally tallier) {
	files, err := filepath.Glob(filepath.Join(dir, "csvs", "*.csv"))
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, file := range files {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		name := strings.TrimSuffix(filepath.Base(file), ".csv")
		want, err := os.ReadFile(filepath.Join(dir, "json", name+".json"))
		require.NoError(t, err)
		got, err := records(text)
		tally(t, "CSV files", err == nil && plain([]byte(got)) == plain(want), "%s: %v: got %s, want %s", name, err, got, want)
	}
}

// records reads a file that no schema describes, and gives its records as JSON.
func records(text []byte) (string, error) {
	var b bytes.Buffer
	r, err := delimited.Kind.NewReader(bytes.NewReader(text), notation.Options{})
	if err != nil {
		return "", err
	}
	var refused error
	_, err = notation.Copy(r, func(bool) (notation.Writer, error) {
		return hrjson.Kind.NewWriter(&b, notation.Options{Many: true})
	}, nil, func(err error) { refused = err })
	return b.String(), errors.Join(err, refused)
}

// plain is a document's list of records as text; a record alone is a list of one.
func plain(document []byte) string {
	var v any
	if err := json.Unmarshal(document, &v); err != nil {
		return err.Error()
	}
	if one, ok := v.(map[string]any); ok {
		v = []any{one}
	}
	b, _ := json.Marshal(v)
	return string(b)
}
