package infer

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/schema"
)

// tree writes kinds with their occurrence, nested in brackets.
func tree(k *kind) string {
	var b strings.Builder
	b.WriteString(k.key)
	for _, in := range k.inner {
		occurs := ""
		if in.some {
			occurs = "?"
		}
		if in.many {
			occurs = "*"
		}
		b.WriteString("(" + tree(in) + ")" + occurs)
	}
	return b.String()
}

// TestTypesOfLineAreTold: by what lines begin with, nested by their order; only where all lines of a
// type are of one size and the types are not.
func TestTypesOfLineAreTold(t *testing.T) {
	for _, c := range []struct{ notation, in, want string }{
		{"fixedwidth", "H20310309|D12|D14|H20310310|D07", "H(D)*"},
		{"fixedwidth", "S1234|VAB|CX|CY|VCD|T12345|S1235|VEF|CZ|VGH|CZ|T12345", "S(V(C)*)*(T)"},
		{"fixedwidth", "HD1|LN22|LN23|TR444", "HD(LN)*(TR)"},
		{"fixedwidth", "A1|B22|A2|C333|A3|B22", "A(B)?(C)?"},
		{"fixedwidth", "0112|0213x|0214x|0113", "01(02)*"},
		{"csv", "H;1;2|D;3|D;4|H;5;6", "H(D)*"},
		{"csv", "ORD,7|LIN,a,1|SER,x,y,z|SER,p,q,r|LIN,b,2|SER,p,q,r|LIN,c,3", "ORD(LIN(SER)*)*"},
	} {
		settings := schema.Settings{Delimiter: ",", Quote: `"`}
		if strings.Contains(c.in, ";") {
			settings.Delimiter = ";"
		}
		k := kinds(strings.Split(c.in, "|"), settings, kindNamed(c.notation).Notation)
		require.NotNil(t, k, c.in)
		require.Equal(t, c.want, tree(k), c.in)
	}
	for _, one := range []string{"A1|A2|A3", "A1|B2|C3", "A1|A22|A333", "A1|B22", "A1|A22|B333|B4", "A1|B22|C1|D22|E1|F22|G1|H22|I1|J22", "|A|B", "-1|+22|+33"} {
		require.Nil(t, kinds(strings.Split(one, "|"), schema.Settings{}, kindNamed("fixedwidth").Notation), one)
	}
}

// TestLinesOfSeveralTypesAreInferred: what is inferred reads the sample, every line of it.
func TestLinesOfSeveralTypesAreInferred(t *testing.T) {
	for _, c := range []struct{ in, notation, want string }{
		{"HD0309\nW0012kg\nW0200kg\nHD0310\nW0007kg\n", "fixedwidth", "field_1 text 2\nfield_2 text 3-6\nlines_w record 0..n\n  field_1 text 2-5\n  field_2 text 6-7\n"},
		{"H;7;2031-03-01\r\nL;3\r\nL;4.5\r\nH;8;2031-03-02\r\n", "csv", "kind text\nfield_2 integer\nfield_3 date\nlines_l record 0..n\n  kind text\n  field_2 decimal\n"},
	} {
		require.Equal(t, c.notation, Notation([]byte(c.in)).Name)
		r := from(t, c.notation, c.in)
		require.Equal(t, c.want, fields(r))
		require.True(t, r.Schema.Nested())
	}
}

func TestTheEscapeOfQuotesIsFound(t *testing.T) {
	require.Equal(t, `\`, Settings([]byte("a,b\n\"x \\\"y\\\"\",1\n"), kindNamed("csv").Notation).Escape)
	require.Empty(t, Settings([]byte("a,b\n\"x \"\"y\"\"\",1\n"), kindNamed("csv").Notation).Escape)
	require.Empty(t, Settings([]byte("a,b\nx,\"\"\n"), kindNamed("csv").Notation).Escape)
}
