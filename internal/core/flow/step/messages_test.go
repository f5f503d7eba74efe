package step_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/flow/running"
)

// outcome runs steps for the scan LC, 110 and gives what they noted, or why it was set aside or left out.
func outcome(t *testing.T, steps string) string {
	t.Helper()
	p, plan := loaded(t, levels(steps))
	played, _, err := run(t, p, plan, "code,level\nLC,110\n", nil, nil)
	require.NoError(t, err, steps)
	it := played.Items[0]
	switch it.State {
	case running.SetAside:
		return "! " + it.Step + ": " + it.Faults[0].What()
	case running.Skipped:
		return "- " + it.Step + ": " + it.Reason
	}
	var notes []string
	for _, n := range it.Notes {
		notes = append(notes, n.Message)
	}
	return strings.Join(notes, " | ")
}

// tells is a note step of a formula.
func tells(formula string) string { return "\n- {step: note, id: told, text: '" + formula + "'}" }

// TestTextsArePackedAndUnpacked: there and back by every way, as they are elsewhere; what is not packed that way is said.
func TestTextsArePackedAndUnpacked(t *testing.T) {
	there := func(how, back string) string {
		return "- {step: pack, id: there, value: 'scan.code + \" æ\"', do: \"" + how + "\", as: packed}\n- {step: pack, id: back, value: packed, do: \"" + back + "\", as: again}" + tells("again")
	}
	for how, back := range map[string]string{
		"gzip (RFC 1952)": "ungzip", "zip, one file": "unzip, the one file", "base64 (RFC 4648)": "from base64", "hexadecimal": "from hexadecimal",
	} {
		require.Equal(t, "LC æ", outcome(t, there(how, back)), how)
	}
	for steps, want := range map[string]string{
		"- {step: pack, id: p, value: scan.code, do: base64 (RFC 4648), as: x}" + tells("x"):         "TEM=",
		"- {step: pack, id: p, value: scan.code, do: hexadecimal, as: x}" + tells("x"):               "4c43",
		"- {step: pack, id: p, value: '\"abc\"', do: SHA-256 hash (FIPS 180-4), as: x}" + tells("x"): "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad",
		"- {step: pack, id: p, value: '\"abc\"', do: SHA-512 hash (FIPS 180-4), as: x}" + tells("x"): "ddaf35a193617abacc417349ae20413112e6fa4e89a97ea20a9eeee64b55d39a2192992a274fc1a836ba3c23a3feebbd454d4423643ce80e2a9ac94fa54ca49f",
	} {
		require.Equal(t, want, outcome(t, steps))
	}
	for _, how := range []string{"ungzip", "\"unzip, the one file\"", "from base64", "from hexadecimal"} {
		got := outcome(t, "- {step: pack, id: p, value: '\"no, it is not!\"', do: "+how+", as: x}")
		require.True(t, strings.HasPrefix(got, "! p: "), "%s: %s", how, got)
	}
}

// TestTextsAreReadAsRecordsAndWritten: of a schema's notation, as one record or a list; what does not fit is said with its
// place in the text.
func TestTextsAreReadAsRecordsAndWritten(t *testing.T) {
	parse := func(text, gives string) string {
		return "- {step: parse, id: parse, text: '" + text + "', schema: message, gives: " + gives + ", as: m}"
	}
	list := `"[" + "{\"code\": \"A\", \"level\": 1}, {\"code\": \"B\", \"level\": 2}" + "]"`
	for steps, want := range map[string]string{
		parse(`"{\"code\": \"A\", \"level\": 7}"`, "one record") + tells("m.code + text(m.level)"): "A7",
		parse(list, "a list of records") + tells(`join(map(m, .code), "+")`):                       "A+B",
		parse(list, "one record"): "! parse: Parse: expected one record, found 2 records. Let the step hold a list of records",
		parse(`"{\"code\": \"A\", \"level\": \"high\"}"`, "one record"):                                                          "! parse: level: expected a whole number, found the string \"high\"",
		parse(`"{\"code\": "`, "one record"):                                                                                     "! parse: ",
		parse(list, "a list of records") + "\n- {step: format, id: format, value: m, schema: scan, as: out}" + tells("out.text"): "code,level\r\nA,1\r\nB,2\r\n",
		"- {step: format, id: format, value: scan, schema: message, as: out}" + tells(`out.type + " " + out.text`):               `application/json {"code":"LC","level":110}` + "\n",
		"- {step: format, id: format, value: scan, schema: message, type: '\"text/x\"', as: out}" + tells("out.type"):            "text/x",
		"- {step: check, id: check, value: scan, schema: message}" + tells(`"well"`):                                             "well",
		"- {step: check, id: check, value: '\"{}\"', schema: message}":                                                           "! check: code: expected a value, found absent",
	} {
		got := outcome(t, steps)
		if strings.HasSuffix(want, ": ") {
			require.True(t, strings.HasPrefix(got, want), "%s: %s", steps, got)
			continue
		}
		if want != got {
			t.Errorf("%s: expected %q, found %q", steps, want, got)
		}
	}
	for steps, want := range map[string]string{
		"- {step: parse, id: p, text: scan.code, schema: level}":               "a notation that can be read and written",
		"- {step: parse, id: p, text: scan.code, schema: nothing}":             `there is no schema "nothing"`,
		"- {step: format, id: f, value: scan.level, schema: message}":          "expected a record or a list of records, found integer",
		"- {step: check, id: c, value: scan.level, schema: message}":           "expected a text or a record, found integer",
		"- {step: set, id: s, values: {\"a b\": 1}, as: x}":                    "expected a name of letters",
		"- {step: tally, id: y, as: sum, starts: '0', becomes: '\"x\"'}":       "expected decimal, as it starts, found text",
		"- {step: template, id: t, text: \"${scan.nothing}\", as: x}":          "nothing",
		"- {step: template, id: t, text: \"${scan.code\", as: x}":              "",
		"- {step: seal, id: s, value: scan.code, as: x}":                       "",
		"- {step: look up, id: l, table: nowhere, match: {a: scan.code}}":      `there is no table "nowhere"`,
		"- {step: gather, id: g, bring: scan, as: all}":                        "",
		"- {step: await, id: a, reference: scan.code, schema: message, as: m}": "",
	} {
		_, plan := loaded(t, levels(steps))
		if len(plan.Faults) == 0 || !strings.Contains(plan.Faults.Error(), want) {
			t.Errorf("%s has the faults %q; expected %s", steps, plan.Faults.Error(), want)
		}
	}
}

// TestTextsInOtherEncodingsAreTexts: a schema whose files are in Latin 1 reads and writes texts as texts, and bytes as bytes.
func TestTextsInOtherEncodingsAreTexts(t *testing.T) {
	for notation, fields := range map[string]string{
		"csv":        "notation settings: {encoding: ISO-8859-1, header: false, line end: LF}\nfields:\n  - {name: code, type: text}\n  - {name: level, type: integer}\n",
		"fixedwidth": "notation settings: {encoding: ISO-8859-1, line end: LF}\nfields:\n  - {name: code, type: text, columns: 1-4}\n  - {name: level, type: integer, columns: 5-7}\n",
	} {
		steps := "- {step: set, id: s, values: {code: '\"æø\"', level: '110'}, as: v}\n- {step: format, id: f, value: v, schema: latin, as: out}\n- {step: parse, id: p, text: out.text, schema: latin, as: again}\n" +
			"- {step: pack, id: hex, value: out.text, do: hexadecimal, as: bytes}" + tells("again.code + text(again.level)") + "\n- {step: note, id: more, text: bytes}"
		p, plan := loaded(t, levels(steps), "schemas/latin.yaml", "schema: Latin\nnotation: "+notation+"\n"+fields)
		played, _, err := run(t, p, plan, "code,level\nLC,110\n", nil, nil)
		require.NoError(t, err)
		it := played.Items[0]
		require.Equal(t, running.Done, it.State, "%v", it.Faults)
		require.Equal(t, "æø110", it.Notes[0].Message, notation)
		require.Contains(t, it.Notes[1].Message, "c3a6c3b8", "a text is UTF-8, whatever files are: %s", notation)
	}
}

// TestValuesAndTalliesAreComputed: names see those before them, a tally goes from record to record, and what cannot be
// computed is the record's fault.
func TestValuesAndTalliesAreComputed(t *testing.T) {
	for steps, want := range map[string]string{
		"- {step: set, id: s, values: {a: scan.level + 1, b: a * 2}, as: v}" + tells("text(v.a) + \"/\" + text(v.b)"): "111/222",
		"- {step: set, id: s, values: {a: 'integer(scan.code)'}, as: v}":                                              "! s: a: ",
		"- {step: tally, id: y, as: sum, starts: '1', becomes: sum + scan.level}" + tells("text(sum)"):                "111",
		"- {step: tally, id: y, as: sum, starts: '1', becomes: 'sum + integer(scan.code)'}":                           "! y: ",
		"- {step: template, id: t, text: \"${upper(scan.code)}: ${scan.level / 4} {of} $5\", as: x}" + tells("x"):     "LC: 27.5 {of} $5",
		"- {step: template, id: t, text: \"${integer(scan.code)}\", as: x}":                                           "! t: ",
		"- {step: keep, id: k, where: scan.level > 500}":                                                              "- k: not scan.level > 500",
		"- {step: stop, id: s, outcome: left out, text: '\"no \" + scan.code'}":                                       "- s: no LC",
		"- {step: stop, id: s, text: 'text(integer(scan.code))'}":                                                     "! s: ",
		"- {step: note, id: n, text: 'scan.code'}\n- {step: note, id: m, text: 'text(scan.level)'}":                   "LC | 110",
	} {
		got := outcome(t, steps)
		if strings.HasSuffix(want, ": ") {
			require.True(t, strings.HasPrefix(got, want), "%s: %s", steps, got)
			continue
		}
		require.Equal(t, want, got, steps)
	}
}

// TestATableOfTheProjectIsLookedInto: by its key, as flows have changed it; a row that is missing is said with its key.
func TestATableOfTheProjectIsLookedInto(t *testing.T) {
	const of = "table: Ports\ncolumns:\n  - {name: code, key: true}\n  - {name: title}\nrows:\n  - [LC, Ling Cross]\n"
	see := func(steps string) string {
		p, plan := loaded(t, levels(steps), "tables/ports.yaml", of)
		played, _, err := run(t, p, plan, "code,level\nLC,110\n", nil, nil)
		require.NoError(t, err)
		it := played.Items[0]
		if it.State == running.SetAside {
			return it.Faults[0].What()
		}
		if len(it.Notes) == 0 {
			return string(it.State) + " " + it.Reason
		}
		return it.Notes[0].Message
	}
	require.Equal(t, "Ling Cross", see("- {step: look up, id: l, table: ports, match: {code: scan.code}, as: port}"+tells("port.title")))
	require.Contains(t, see("- {step: look up, id: l, table: ports, match: {code: '\"XX\"'}, as: port}"), `no row of Ports with code "XX"`)
	require.Contains(t, see("- {step: look up, id: l, table: ports, match: {code: '\"XX\"'}, as: port, none: leave out}"), "skipped")
	require.Equal(t, "none", see("- {step: look up, id: l, table: ports, match: {code: '\"XX\"'}, as: port, none: go on}"+tells(`isAbsent(port) ? "none" : "some"`)))
	change := "- {step: change, id: c, table: ports, row: {code: '\"XX\"', title: '\"Ex\"'}}\n"
	require.Equal(t, "Ex", see(change+"- {step: look up, id: l, table: ports, match: {code: '\"XX\"'}, as: port}"+tells("port.title")))
	away := "- {step: change, id: c, table: ports, do: take it away, row: {code: scan.code}}\n"
	require.Contains(t, see(away+"- {step: look up, id: l, table: ports, match: {code: scan.code}, as: port}"), "no row of Ports")
	for steps, want := range map[string]string{
		"- {step: look up, id: l, table: ports, match: {title: scan.code}}":                  "the key column code has no formula",
		"- {step: look up, id: l, table: ports, match: {code: scan.code, size: scan.level}}": `the table Ports has no column "size"`,
		"- {step: look up, id: l, table: ports, match: {code: scan.level}}":                  "expected text for code",
	} {
		_, plan := loaded(t, levels(steps), "tables/ports.yaml", of)
		require.Contains(t, plan.Faults.Error(), want, steps)
	}
	_, plan := loaded(t, levels("- {step: look up, id: l, table: ports, match: {}}"), "tables/ports.yaml", of)
	require.Equal(t, []string{"code"}, plan.Planned("l").Columns.Root.Layout().Names, "what can be named is known though nothing is")
	_, plan = loaded(t, levels(away), "tables/ports.yaml", of)
	require.Equal(t, []string{"code", "title"}, plan.Planned("c").Columns.Root.Layout().Names)
}
