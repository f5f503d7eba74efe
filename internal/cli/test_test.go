package cli

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestCasesAreRun(t *testing.T) {
	code, out, errs := call(t, "", "test", "../../demo")
	require.Equal(t, exitDone, code, out+errs)
	require.Contains(t, out, "ok    reading-to-tide-level: A surge at Orma slip")

	dir := t.TempDir()
	require.NoError(t, os.CopyFS(dir, os.DirFS("../../demo")))
	path := filepath.Join(dir, "mappings", "reading-to-tide-level.yaml")
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(path, []byte(strings.Replace(string(text), "constant: cm", "constant: mm", 1)), 0o644))
	report := filepath.Join(dir, "report.xml")
	code, out, _ = call(t, "", "test", dir, "--junit", report)
	require.Equal(t, exitFaults, code)
	require.Contains(t, out, "FAIL  reading-to-tide-level: A surge at Orma slip\n      /unit: expected \"cm\", found \"mm\"")
	require.Contains(t, out, "1 failed")
	made, err := os.ReadFile(report)
	require.NoError(t, err)
	require.Contains(t, string(made), `<testsuite name="reading-to-tide-level" tests="1" failures="1">`)
	require.Contains(t, string(made), `<failure message="/unit: expected`)
}
