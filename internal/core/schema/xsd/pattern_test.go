package xsd

import (
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
