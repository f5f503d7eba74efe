package xsd

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestClassesAreTakenFromClasses (XML Schema 1.0, part 2, appendix F).
func TestClassesAreTakenFromClasses(t *testing.T) {
	for p, c := range map[string]struct{ in, out string }{
		`[A-Z-[IO]]`:        {"AHNZ", "IOa1"},
		`[a-z-[aeiou-[e]]]`: {"bez", "aiou1"},
		`[\w-[\d_]]`:        {"aÆz", "1_ "},
		`[^a-z-[0-9]]`:      {"A_ ", "aq5"},
		`[\D]`:              {"aÆ-", "19"},
		`[\D\d]`:            {"a1 ", ""},
		`[\S-[<>]]`:         {"a&", "<> \t"},
		`[\p{L}-[\P{Lu}]]`:  {"AÆ", "aæ1"},
		`[\i-[:]]`:          {"a_", ":1"},
		`[a-]`:              {"a-", "b"},
		`[\-x]`:             {"-x", "\\"},
		`[\^\]\[\\]`:        {"^][\\", "a"},
		`[\n-\r-[\r]]`:      {"\n", "\r"},
		`[a-c-[a-z]]`:       {"", "abcz"},
	} {
		re, err := pattern(p)
		require.NoError(t, err, p)
		for _, r := range c.in {
			require.True(t, re.MatchString(string(r)), "%s %q", p, r)
		}
		for _, r := range c.out {
			require.False(t, re.MatchString(string(r)), "%s %q", p, r)
		}
	}
	for _, wrong := range []string{"[a", "[a-[b]", "[a-[b]c]", "[z-a]", strings.Repeat("[a-", 40) + "[b]" + strings.Repeat("]", 40), `[\p{Nothing}-[a]]`} {
		_, err := pattern(wrong)
		require.Error(t, err, wrong)
	}
}

// TestReferencesLookInTheirOwnScope: a key in one branch does not answer for a reference in another;
// one of a scope inside does.
func TestReferencesLookInTheirOwnScope(t *testing.T) {
	s, err := Load("a.xsd", []byte(`<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema">
<xs:element name="r"><xs:complexType><xs:sequence><xs:element ref="g" maxOccurs="9"/><xs:element name="see" minOccurs="0" maxOccurs="9"><xs:complexType><xs:attribute name="to"/></xs:complexType></xs:element></xs:sequence></xs:complexType>
<xs:keyref name="all" refer="k"><xs:selector xpath="see"/><xs:field xpath="@to"/></xs:keyref></xs:element>
<xs:element name="g"><xs:complexType><xs:sequence><xs:element name="i" maxOccurs="9"><xs:complexType><xs:attribute name="no"/><xs:attribute name="up"/></xs:complexType></xs:element></xs:sequence></xs:complexType>
<xs:key name="k"><xs:selector xpath="i"/><xs:field xpath="@no"/></xs:key><xs:keyref name="f" refer="k"><xs:selector xpath="i"/><xs:field xpath="@up"/></xs:keyref></xs:element></xs:schema>`), nil)
	require.NoError(t, err)
	require.Empty(t, faults(s, `<r><g><i no="1"/><i no="2" up="1"/></g><g><i no="3"/></g><see to="1"/><see to="3"/></r>`))
	require.Len(t, faults(s, `<r><g><i no="1"/></g><g><i no="3" up="1"/></g></r>`), 1)
	require.Len(t, faults(s, `<r><g><i no="1"/></g><see to="4"/></r>`), 1)
}

// TestBlockAndFinal: types and elements say which derivations may take their place, and which may be
// made at all. The judge agrees.
func TestBlockAndFinal(t *testing.T) {
	const types = `<xs:complexType name="b"%s><xs:sequence><xs:element name="x" type="xs:string" minOccurs="0"/></xs:sequence></xs:complexType>
<xs:complexType name="e"><xs:complexContent><xs:extension base="b"><xs:sequence><xs:element name="y" type="xs:string" minOccurs="0"/></xs:sequence></xs:extension></xs:complexContent></xs:complexType>
<xs:complexType name="s"><xs:complexContent><xs:restriction base="b"><xs:sequence/></xs:restriction></xs:complexContent></xs:complexType>
<xs:element name="r"><xs:complexType><xs:sequence><xs:element ref="h"/></xs:sequence></xs:complexType></xs:element>
<xs:element name="h" type="b"%s/><xs:element name="m" type="e" substitutionGroup="h"/><xs:element name="n" type="s" substitutionGroup="h"/></xs:schema>`
	const xsi = ` xmlns:xsi="http://www.w3.org/2001/XMLSchema-instance" xsi:type=`
	documents := []string{"<r><h/></r>", "<r><m/></r>", "<r><n/></r>", "<r><h" + xsi + `"e"/></r>`, "<r><h" + xsi + `"s"/></r>`}
	for _, c := range []struct {
		root, onType, onElement, want string // which documents are valid
	}{
		{"", "", "", "11111"},
		{"", ` block="extension"`, "", "10101"},
		{"", ` block="#all"`, "", "10000"},
		{"", "", ` block="restriction"`, "11010"},
		{"", "", ` block="substitution"`, "10011"},
		{"", "", ` block="#all"`, "10000"},
		{` blockDefault="extension"`, "", "", "10101"},
		{` blockDefault="extension"`, ` block=""`, ` block=""`, "11111"},
	} {
		text := `<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema"` + c.root + ">" + fmt.Sprintf(types, c.onType, c.onElement)
		s, err := Load("a.xsd", []byte(text), nil)
		require.NoError(t, err)
		got := ""
		for _, in := range documents {
			got += map[bool]string{true: "1", false: "0"}[len(faults(s, in)) == 0]
		}
		require.Equal(t, c.want, got, "%+v", c)
		if _, err := exec.LookPath("xmllint"); err != nil {
			continue
		}
		path := filepath.Join(t.TempDir(), "a.xsd")
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
		for i, valid := range judge(t, path, documents) {
			require.Equal(t, valid, got[i] == '1', "%+v %s", c, documents[i])
		}
	}
	for _, final := range [][3]string{{"", ` final="extension"`, ""}, {"", ` final="#all"`, ""}, {` finalDefault="restriction"`, "", ""}, {"", "", ` final="extension"`}} {
		_, err := Load("a.xsd", []byte(`<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema"`+final[0]+">"+fmt.Sprintf(types, final[1], final[2])), nil)
		require.ErrorContains(t, err, "final", final)
	}
}
