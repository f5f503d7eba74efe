package cli

import (
	"testing"

	"github.com/stretchr/testify/require"
)

func TestAFormulaIsComputed(t *testing.T) {
	code, out, _ := call(t, "", "formula", `addBusinessDays(date("2031-03-07"), 1)`)
	require.Equal(t, exitDone, code)
	require.Equal(t, "\"2031-03-10\"\n", out)
	code, out, errs := call(t, "id,name\n1,orma\n2,havra\n", "formula", "upper(record.name)", "--on", "-", "--from", "csv")
	require.Equal(t, exitDone, code, errs)
	require.Equal(t, "\"ORMA\"\n\"HAVRA\"\n", out)
	code, out, errs = call(t, `[{"a":"1"},{"a":"x"},{"a":"3"}]`, "formula", "integer(record.a) + 1", "--on", "-")
	require.Equal(t, exitFaults, code)
	require.Equal(t, "2\n4\n", out)
	require.Contains(t, errs, `found "x"`)
	schema := file(t, "s.yaml", "schema: S\nnotation: json\nfields:\n  - {name: qty, type: integer}\n")
	code, out, _ = call(t, `{"qty":3}`, "formula", "qty * 2", "--on", "-", "--schema", schema)
	require.Equal(t, exitDone, code)
	require.Equal(t, "6\n", out)
	code, _, errs = call(t, `{"qty":3}`, "formula", "quantity * 2", "--on", "-", "--schema", schema)
	require.Equal(t, exitInput, code)
	require.Contains(t, errs, `there is no "quantity"`)
	code, out, _ = call(t, "", "formula", "--list")
	require.Equal(t, exitDone, code)
	require.Contains(t, out, "### round(number, places?, mode?)")
	code, _, _ = call(t, "", "formula")
	require.Equal(t, exitInput, code)
}
