package xmltext

import (
	"encoding/xml"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/fault"
)

// tokens writes all tokens of a document, adjoining texts as one, and the fault at its end.
func tokens(r *Reader) string {
	var b strings.Builder
	text := ""
	for {
		k, err := r.Next()
		if k != Text && text != "" {
			fmt.Fprintf(&b, "%q ", text)
			text = ""
		}
		if err == io.EOF {
			return b.String()
		}
		if err != nil {
			return b.String() + "! " + err.Error()
		}
		switch k {
		case Start:
			b.WriteString("<" + shown(r.Name))
			for _, a := range r.Attrs {
				fmt.Fprintf(&b, " %s=%q", shown(a.Name), a.Value)
			}
			b.WriteString("> ")
		case End:
			b.WriteString("</" + shown(r.Name) + "> ")
		case Text:
			text += r.Text
		}
	}
}

func shown(n xml.Name) string {
	if n.Space == "" {
		return n.Local
	}
	return "{" + n.Space + "}" + n.Local
}

// TestADocumentIsInTheEncodingThatItNames: one in UTF-16 that says otherwise is refused (XML 1.0, section 4.3.3).
func TestADocumentIsInTheEncodingThatItNames(t *testing.T) {
	wide := func(text string) string {
		var b strings.Builder
		b.WriteString("\xff\xfe")
		for _, c := range []byte(text) {
			b.Write([]byte{c, 0})
		}
		return b.String()
	}
	require.Equal(t, "<a> </a> ", tokens(New(strings.NewReader(wide(`<?xml version="1.0" encoding="UTF-16"?><a/>`)), Options{})))
	require.Equal(t, "<a> </a> ", tokens(New(strings.NewReader(wide(`<?xml version="1.0"?><a/>`)), Options{})))
	require.Contains(t, tokens(New(strings.NewReader(wide(`<?xml version="1.0" encoding="utf-8"?><a/>`)), Options{})), "the document says that it is utf-8, and is UTF-16")
}

func TestTokens(t *testing.T) {
	for _, c := range []struct{ in, want string }{
		{"<a/>", "<a> </a> "},
		{"<?xml version='1.0' encoding=\"UTF-8\"?>\n<!-- x --><a b='1' c = \"2\" ></a >\n<?pi x?>\n", `<a b="1" c="2"> </a> `},
		{"\ufeff<a>x</a>", `<a> "x" </a> `},
		{"<a>1 &lt; 2 &amp;&#65;&#x42;&apos;&quot;&gt;</a>", `<a> "1 < 2 &AB'\">" </a> `},
		{"<a>x<!-- y -->z<![CDATA[<&]]]]><![CDATA[>]]></a>", `<a> "xz<&]]>" </a> `},
		{"<a>l1\r\nl2\rl3\n</a>", `<a> "l1\nl2\nl3\n" </a> `},
		{"<a b='x\r\ny\tz&#10;]]>&lt;'/>", `<a b="x y z\n]]><"> </a> `},
		{"<o:r xmlns:o='urn:o' o:x='1' y='2'><i xmlns='urn:i'><j/></i><k/></o:r>", `<{urn:o}r {http://www.w3.org/2000/xmlns/}o="urn:o" {urn:o}x="1" y="2"> <{urn:i}i {http://www.w3.org/2000/xmlns/}xmlns="urn:i"> <{urn:i}j> </{urn:i}j> </{urn:i}i> <k> </k> </{urn:o}r> `},
		{"<a xmlns='u'><b xmlns=''><c/></b><d xml:lang='no'/></a>", `<{u}a {http://www.w3.org/2000/xmlns/}xmlns="u"> <b {http://www.w3.org/2000/xmlns/}xmlns=""> <c> </c> </b> <{u}d {http://www.w3.org/XML/1998/namespace}lang="no"> </{u}d> </{u}a> `},
		{"<æø.1-·>å</æø.1-·>", `<æø.1-·> "å" </æø.1-·> `},

		{"", "! in:1:1: expected a root element, found the end of the file"},
		{"  \n", "! in:2:1: expected a root element, found the end of the file"},
		{"<a>", "<a> ! in:1:4: this is not XML: the document ends inside <a>"},
		{"<a><b></a>", "<a> <b> ! in:1:7: expected </b>, found </a>"},
		{"<a/>\n<b/>", "<a> </a> ! in:2:1: something stands behind the root element"},
		{"<a/>x", "<a> </a> ! in:1:5: something stands behind the root element"},
		{"x<a/>", "! in:1:1: text stands before the root element"},
		{"</a>", "! in:1:1: </a> closes nothing"},
		{"<a b='1' b='2'/>", "! in:1:13: the attribute b is there twice"},
		{"<a xmlns:p='u' xmlns:q='u' p:b='1' q:b='2'/>", "! in:1:41: the attribute q:b is there twice"},
		{"<a b=1/>", "! in:1:6: this is not XML: the value of b must stand in quotes"},
		{"<a b/>", "! in:1:5: this is not XML: the attribute b has no value"},
		{"<a b='1'c='2'/>", "! in:1:9: this is not XML: white space was expected before an attribute"},
		{"<a b='<'/>", "! in:1:7: this is not XML: < cannot stand in the value of an attribute"},
		{"<a>\n &x;</a>", "<a> ! in:2:2: this is not XML: the entity &x; is not known"},
		{"<a>a & b</a>", "<a> ! in:1:6: this is not XML: & begins a reference, which ends in ;. Write &amp; for the sign itself"},
		{"<a>&#0;</a>", "<a> ! in:1:4: this is not XML: &#0; is no character that can stand in it"},
		{"<a>&#xD800;</a>", "<a> ! in:1:4: this is not XML: &#xD800; is no character that can stand in it"},
		{"<a>\x01</a>", "<a> ! in:1:4: this is not XML: the character U+0001 cannot stand in it"},
		{"<a>\xff</a>", "<a> ! in:1:4: expected UTF-8 text, found the byte FF"},
		{"<a>]]></a>", "<a> ! in:1:4: this is not XML: ]]> cannot stand in a text"},
		{"<a><!-- -- --></a>", "<a> ! in:1:9: this is not XML: -- cannot stand inside of a comment"},
		{"<!DOCTYPE a [<!ENTITY x SYSTEM 'file:///etc/passwd'>]><a>&x;</a>", "<a> ! in:1:58: the entity &x; stands in another file, and nothing is fetched"},
		{"<!DOCTYPE a PUBLIC '-//S//A' 'a.dtd' [ <!-- c --> <?p i?> <!ELEMENT a (#PCDATA|b)*><!ELEMENT b (c,(d|e)+)?>\n<!NOTATION n PUBLIC 'n'><!ENTITY u SYSTEM 'u' NDATA n><!ENTITY % p 'q'>%p;\n<!ATTLIST a i ID #IMPLIED k (x|y) 'x' t NMTOKENS ' r  s '><!ENTITY e 'one &#38;amp; &f;'><!ENTITY f '&#x41;'><!ENTITY e 'two'> ]>\n<a i=' z '>&e;!</a>", "<a i=\"z\" k=\"x\" t=\"r s\"> \"one & A!\" </a> "},
		{"<!DOCTYPE a [<!ENTITY e '<b/>'>]><a>&e;</a>", "<a> ! in:1:37: the entity &e; holds elements, which is not read here"},
		{"<!DOCTYPE a [<!ENTITY e '&f;'><!ENTITY f '&e;'>]><a>&e;</a>", "<a> ! in:1:53: this is not XML: the entity &e; stands inside of itself"},
		{"<!DOCTYPE a [<!ENTITY lt '&#38;#60;'>]><a b='&lt;'>&lt;</a>", "<a b=\"<\"> \"<\" </a> "},
		{"<!DOCTYPE a []><!DOCTYPE a []><a/>", "! in:1:16: this is not XML: a document type declaration stands once, before the root element"},
		{"<a/><!DOCTYPE a>", "<a> </a> ! in:1:5: this is not XML: a document type declaration stands once, before the root element"},
		{"<!DOCTYPE a [<!ELEMENT a (b,c|d)>]><a/>", "! in:1:30: this is not XML: ), or one kind of separator, was expected"},
		{"<!DOCTYPE a [<!ATTLIST a b CDATA>]><a/>", "! in:1:33: this is not XML: white space was expected"},
		{"<!DOCTYPE a [<!ENTITY e '%p;'>]><a/>", "! in:1:26: this is not XML: a reference to a parameter entity cannot stand inside of a declaration"},
		{"<!DOCTYPE a [<!WHAT e>]><a/>", "! in:1:14: this is not XML: this declaration cannot stand here"},
		{"<!DOCTYPE a [", "! in:1:1: this is not XML: the document ends inside of a tag"},
		{"<?xml version='2.0'?><a/>", "! in:1:1: expected an XML declaration, as <?xml version=\"1.0\" encoding=\"UTF-8\"?>, found \"<?xml version='2.0'?>\""},
		{"<?xml encoding='UTF-8' version='1.0'?><a/>", "! in:1:1: expected an XML declaration, as <?xml version=\"1.0\" encoding=\"UTF-8\"?>, found \"<?xml encoding='UTF-8' version='1.0'?>\""},
		{"<?xml version='1.0' standalone='maybe'?><a/>", "! in:1:1: expected an XML declaration, as <?xml version=\"1.0\" encoding=\"UTF-8\"?>, found \"<?xml version='1.0' standalone='maybe'?>\""},
		{"<a><!ELEMENT b></a>", "<a> ! in:1:4: this is not XML: this declaration cannot stand here"},
		{" <?xml version='1.0'?><a/>", "! in:1:2: this is not XML: the XML declaration stands at the beginning only"},
		{"   <?xml version='1.0'?><a/>", "! in:1:4: this is not XML: the XML declaration stands at the beginning only"},
		{"<?xml version='1.1'?><a/>", "<a> </a> "},
		{"<?xml version='1.0' encoding='klingon'?><a/>", `! in:1:1: expected an encoding that is known, found "klingon"`},
		{"<1a/>", "! in:1:2: this is not XML: a name was expected behind <"},
		{"<a / >", "! in:1:4: this is not XML: > was expected behind /"},
		{"<p:a/>", "! in:1:1: the prefix of p:a is not declared"},
		{"<a p:b='1'/>", "! in:1:9: the prefix of p:b is not declared"},
		{"<a xmlns:p=''/>", "! in:1:13: xmlns:p declares no namespace"},
		{"<a", "! in:1:1: this is not XML: the document ends inside of a tag"},
		{"<a><!-- x", "<a> ! in:1:4: this is not XML: the document ends inside of a tag"},
		{"<a><![CDATA[x]]</a>", "<a> ! in:1:4: this is not XML: the document ends inside of a tag"},
	} {
		for name, in := range map[string]io.Reader{"whole": strings.NewReader(c.in), "byte by byte": iotest.OneByteReader(strings.NewReader(c.in))} {
			require.Equal(t, c.want, tokens(New(in, Options{Source: "in", Namespaces: true})), "%q %s", c.in, name)
		}
	}
}

func TestEncodings(t *testing.T) {
	for _, in := range []string{
		"<?xml version='1.0' encoding='ISO-8859-1'?><a>\xe6</a>",
		"<?xml version='1.0' encoding='windows-1252'?><a>\xe6</a>",
		"\xff\xfe<\x00a\x00>\x00\xe6\x00<\x00/\x00a\x00>\x00",
		"\xfe\xff\x00<\x00a\x00>\x00\xe6\x00<\x00/\x00a\x00>",
		"\xef\xbb\xbf<a>\xc3\xa6</a>",
	} {
		require.Equal(t, `<a> "æ" </a> `, tokens(New(strings.NewReader(in), Options{})), "%q", in)
	}
}

// TestPlaces: of tokens, attributes and their ends, also behind blocks that were given up.
func TestPlaces(t *testing.T) {
	in := "<a>\n  <b c=\"1\"\n   d='2'>x\ny</b>" + strings.Repeat("\n<e/>", 100_000) + "\n  <f/></a>"
	r := New(strings.NewReader(in), Options{Source: "in"})
	at := map[string]string{}
	for {
		k, err := r.Next()
		if err == io.EOF {
			break
		}
		require.NoError(t, err)
		p := r.Place()
		if k == Start && r.Raw != "e" {
			at[r.Raw] = fmt.Sprintf("%d:%d", p.Line, p.Column)
			for _, a := range r.Attrs {
				q := r.PlaceOf(a.At)
				at[a.Raw] = fmt.Sprintf("%d:%d", q.Line, q.Column)
			}
			e := r.PlaceOf(r.End)
			at[r.Raw+" end"] = fmt.Sprintf("%d:%d", e.Line, e.Column)
		}
		require.Equal(t, p.Byte, r.Begin)
	}
	require.Equal(t, map[string]string{
		"a": "1:1", "a end": "1:4", "b": "2:3", "c": "2:9", "d": "3:7", "b end": "3:10", "f": "100005:3", "f end": "100005:7",
	}, at)
}

func TestLimits(t *testing.T) {
	deep := strings.Repeat("<a>", 600) + strings.Repeat("</a>", 600)
	require.Contains(t, tokens(New(strings.NewReader(deep), Options{})), "elements nest deeper than 512")
	require.Contains(t, tokens(New(strings.NewReader("<a b='"+strings.Repeat("x", 2<<20)+"'/>"), Options{})), "longer than 1048576 bytes")
	require.Contains(t, tokens(New(strings.NewReader("<a><!--"+strings.Repeat("x", 1<<20)+"--></a>"), Options{MaxToken: 1 << 19})), "longer than 524288 bytes")
	var many strings.Builder
	for i := range 10_001 {
		fmt.Fprintf(&many, " a%d=''", i)
	}
	require.Contains(t, tokens(New(strings.NewReader("<a"+many.String()+"/>"), Options{})), "more than 10000 attributes")
	long := "<a>" + strings.Repeat("æ&amp;\r\n]", 50_000) + "</a>"
	require.Equal(t, fmt.Sprintf("<a> %q </a> ", strings.Repeat("æ&\n]", 50_000)), tokens(New(strings.NewReader(long), Options{})), "long texts come in pieces")
	broken := io.MultiReader(strings.NewReader("<a>"), iotest.ErrReader(io.ErrClosedPipe))
	_, err := func() (k Kind, err error) {
		r := New(broken, Options{})
		for err == nil {
			k, err = r.Next()
		}
		return k, err
	}()
	require.Equal(t, fault.Outside, err.(*fault.Fault).Code)
}

// document makes a document, well-formed but for where it is spoilt.
func document(rnd *rand.Rand, depth int) string {
	pick := func(s ...string) string { return s[rnd.IntN(len(s))] }
	name := pick("a", "b", "item", "x-1", "ns:c", "æ")
	var b strings.Builder
	b.WriteString("<" + name)
	if depth == 0 {
		b.WriteString(" xmlns:ns='urn:n'")
	}
	for i := range rnd.IntN(3) {
		fmt.Fprintf(&b, "%s%s%d%s", pick(" ", "\n", "\t"), pick("p", "ns:q"), i, pick("='1'", "=\"a&amp;b\"", " = 'l1\nl2'", "='&#9;'"))
	}
	if rnd.IntN(5) == 0 {
		return b.String() + "/>"
	}
	b.WriteString(pick(">", " >"))
	for range rnd.IntN(5) {
		if depth < 4 && rnd.IntN(2) == 0 {
			b.WriteString(document(rnd, depth+1))
		} else {
			b.WriteString(pick("text", " \n", "&lt;", "<![CDATA[<x>]]>", "<!-- c -->", "<?p i?>", "ø", "]]"))
		}
	}
	return b.String() + "</" + name + ">"
}

// TestTokensAgreeWithTheStandardLibrary, on documents that are made at random.
func TestTokensAgreeWithTheStandardLibrary(t *testing.T) {
	for seed := range uint64(2000) {
		in := document(rand.New(rand.NewPCG(seed, 1)), 0)
		require.Equal(t, standard(in), tokens(New(strings.NewReader(in), Options{Namespaces: true})), "%q", in)
	}
}

func standard(in string) string {
	dec := xml.NewDecoder(strings.NewReader(in))
	var b strings.Builder
	text := ""
	for {
		tok, err := dec.Token()
		if _, ok := tok.(xml.CharData); !ok && text != "" {
			switch tok.(type) {
			case xml.Comment, xml.ProcInst:
				continue
			}
			fmt.Fprintf(&b, "%q ", text)
			text = ""
		}
		if err != nil {
			return b.String()
		}
		switch k := tok.(type) {
		case xml.StartElement:
			b.WriteString("<" + shown(k.Name))
			for _, a := range k.Attr {
				if a.Name.Space == "xmlns" {
					a.Name.Space = namespaceXMLNS
				}
				fmt.Fprintf(&b, " %s=%q", shown(a.Name), strings.ReplaceAll(a.Value, "\n", " ")) // which it does not normalize
			}
			b.WriteString("> ")
		case xml.EndElement:
			b.WriteString("</" + shown(k.Name) + "> ")
		case xml.CharData:
			text += string(k)
		}
	}
}

// TestWellFormednessAgreesWithXmllint, on documents spoilt in one place.
func TestWellFormednessAgreesWithXmllint(t *testing.T) {
	xmllint, err := exec.LookPath("xmllint")
	if err != nil {
		t.Skip("xmllint is not installed")
	}
	const n = 1000
	dir := t.TempDir()
	args, docs := []string{"--noout", "--nowarning"}, map[string]string{}
	for seed := range uint64(n) {
		rnd := rand.New(rand.NewPCG(seed, 2))
		in := []byte(document(rnd, 0))
		at := rnd.IntN(len(in))
		in[at] = `<>&'"/ x=!-]?;:`[rnd.IntN(15)]
		path := filepath.Join(dir, fmt.Sprintf("%04d.xml", seed))
		require.NoError(t, os.WriteFile(path, in, 0o644))
		docs[path] = string(in)
		args = append(args, path)
	}
	out, _ := exec.Command(xmllint, args...).CombinedOutput() // it fails if one document does
	said := map[string]bool{}
	for _, line := range strings.Split(string(out), "\n") {
		path, _, found := strings.Cut(line, ":")
		if found && !strings.Contains(line, "is not a valid URI") && !strings.Contains(line, "is not absolute") {
			said[path] = true // a namespace may be any text here
		}
	}
	agreed := 0
	for path, in := range docs {
		bad := said[path]
		got := tokens(New(strings.NewReader(in), Options{Namespaces: true}))
		require.Equal(t, bad, strings.Contains(got, "! "), "%q\n%s", in, got)
		agreed++
	}
	require.Equal(t, n, agreed)
}

func FuzzReader(f *testing.F) {
	for _, s := range []string{"<a b='1'>x</a>", "<?xml version='1.0'?><a xmlns:p='u'><p:b/>&lt;<![CDATA[x]]></a>", "<a><!-- x --></a>", "\xff\xfe<\x00a\x00"} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, in []byte) {
		whole := tokens(New(strings.NewReader(string(in)), Options{Namespaces: true}))
		bytewise := tokens(New(iotest.OneByteReader(strings.NewReader(string(in))), Options{Namespaces: true}))
		require.Equal(t, whole, bytewise)
	})
}
