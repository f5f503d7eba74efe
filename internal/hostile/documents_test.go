package hostile

import (
	"bytes"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"mime/multipart"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp"
	"github.com/ProtonMail/go-crypto/openpgp/armor"
	"github.com/ProtonMail/go-crypto/openpgp/packet"
	"github.com/gin-gonic/gin"
	"github.com/stretchr/testify/require"

	ours "hollowreed/internal/core/openpgp"
	"hollowreed/internal/web/bench"
	"hollowreed/internal/web/estate"
	"hollowreed/internal/web/page"
	"hollowreed/internal/web/releases"
	"hollowreed/internal/web/traffic"
)

const xs = `<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema" targetNamespace="urn:a" xmlns="urn:a">`

// documents are descriptions of messages and systems that multiply, go round in circles, or have no end, by the ending of their files.
func documents() map[string][]string {
	n := 20_000
	if full {
		n = 60_000 // what is larger than a request may be is not read at all
	}
	const most = 5000 // fields of a schema that is large, and kept
	each := func(format string, n int) string {
		var b strings.Builder
		for i := range n {
			fmt.Fprintf(&b, format, i, i+1)
		}
		return b.String()
	}
	bomb := `<!DOCTYPE a [<!ENTITY a0 "ha">` + each(`<!ENTITY a%[2]d "&a%[1]d;&a%[1]d;&a%[1]d;">`, 30) + `]>`
	schemas := []string{
		xs + `<xs:group name="g0"><xs:sequence><xs:element name="a"/></xs:sequence></xs:group>` + each(`<xs:group name="g%[2]d"><xs:sequence><xs:group ref="g%[1]d"/><xs:group ref="g%[1]d"/></xs:sequence></xs:group>`, 40) + `<xs:element name="r"><xs:complexType><xs:group ref="g40"/></xs:complexType></xs:element></xs:schema>`,
		xs + `<xs:complexType name="t"><xs:complexContent><xs:extension base="t"/></xs:complexContent></xs:complexType><xs:element name="r" type="t"/></xs:schema>`,
		xs + `<xs:element name="r"><xs:complexType><xs:sequence>` + each(`<xs:element name="e%d" minOccurs="0" maxOccurs="4294967295"/>`, most) + `</xs:sequence></xs:complexType></xs:element></xs:schema>`,
		xs + `<xs:element name="r">` + strings.Repeat(`<xs:complexType><xs:sequence><xs:element name="a">`, n) + `</xs:schema>`,
		xs + `<xs:simpleType name="p"><xs:restriction base="xs:string"><xs:pattern value="((((a{1000}){1000}){1000}){1000})*"/></xs:restriction></xs:simpleType><xs:element name="r" type="p"/></xs:schema>`,
		xs + each(`<xs:element name="e%d" substitutionGroup="e%d"/>`, 2000) + `<xs:element name="e2000" substitutionGroup="e0"/></xs:schema>`,
		bomb + xs + `<xs:element name="&a30;"/></xs:schema>`,
	}
	described := func(types string) string {
		return `<definitions xmlns="http://schemas.xmlsoap.org/wsdl/" xmlns:s="http://schemas.xmlsoap.org/wsdl/soap/"><types>` + types + `</types>` + each(`<message name="m%d"><part name="p" element="r"/></message>`, 1000) + `</definitions>`
	}
	doubled := each(`, "p%[2]d": {"allOf": [{"$ref": "#/$defs/p%[1]d"}, {"$ref": "#/$defs/p%[1]d"}]}`, 40)
	trees := []string{
		`{"$schema": "https://json-schema.org/draft/2020-12/schema", "$defs": {"p0": {"type": "object", "properties": {"a": {"type": "string"}}}` + doubled + `}, "$ref": "#/$defs/p40"}`,
		`{"type": "object", "properties": {"a": {"$ref": "#"}, "b": {"allOf": [{"$ref": "#/properties/b"}]}}}`,
		`{"type": "object", "properties": ` + strings.Repeat(`{"a": {"type": "object", "properties": `, n) + `{}`,
		`{"type": "object", "properties": {"a": {"type": "string", "pattern": "(((a{1000}){1000}){1000})*$"}}}`,
		`{"type": "object", "properties": {"a": 1` + each(`, "f%d": {"type": "string"}`, most) + `}}`,
		strings.Repeat("[", n), "\x00", "",
	}
	services := []string{
		"openapi: 3.0.0\ninfo: {title: a, version: b}\npaths: {}\ncomponents: {schemas: {p0: {type: object}" + each(`, p%[2]d: {allOf: [{$ref: '#/components/schemas/p%[1]d'}, {$ref: '#/components/schemas/p%[1]d'}]}`, 40) + "}}",
		"a0: &a0 [ha]\n" + each("a%[2]d: &a%[2]d [*a%[1]d, *a%[1]d, *a%[1]d]\n", 30),
		"openapi: 3.0.0\ninfo: {title: a, version: b}\npaths:\n" + each("  /p%[1]d: {get: {operationId: o%[1]d, responses: {'200': {description: a, content: {application/json: {schema: {type: array, items: {type: object, properties: {a: {type: string}}}}}}}}}}\n", n/20),
		"openapi: 3.0.0\npaths: " + strings.Repeat("{a: ", n), strings.Repeat("- ", n), "openapi: 3.0.0\ninfo: {title: a, version: b}\npaths: {/a: {$ref: 'http://169.254.169.254/a'}, /b: {$ref: 'file:///etc/passwd'}}",
	}
	all := map[string][]string{"xsd": schemas, "wsdl": {bomb + described(""), described(strings.Repeat("<a>", n))}, "json": trees, "yaml": services}
	for _, s := range schemas {
		all["wsdl"] = append(all["wsdl"], described(s))
	}
	return all
}

// takers are the forms that take documents of a kind.
var takers = map[string][]string{
	"xsd": {"/bench/schemas"}, "json": {"/bench/schemas"}, "wsdl": {"/bench/connections/soap/take", "/bench/schemas"}, "yaml": {"/bench/connections/http/take", "/bench/schemas"},
}

// documents brings all that is hostile to every form that takes documents of its kind.
func (p *program) documents(do func(func())) {
	for ending, list := range documents() {
		for i, text := range list {
			for _, path := range takers[ending] {
				do(func() {
					if status := p.bring(path, "Brought as "+ending, ending, text); status >= 500 || status == 0 {
						p.t.Errorf("%s answers %d to the document %d of %s", path, status, i, ending)
					}
				})
			}
		}
	}
}

// bring sends a file to a form.
func (p *program) bring(path, title, ending, text string) int {
	var body bytes.Buffer
	form := multipart.NewWriter(&body)
	form.WriteField("title", title)
	form.WriteField("at", "#")
	if file, err := form.CreateFormFile("file", "brought."+ending); err == nil {
		io.WriteString(file, text)
	}
	form.Close()
	resp, err := p.client.Post(p.pages+path, form.FormDataContentType(), &body)
	if err != nil {
		p.t.Errorf("%s: the document %s: %s", path, title, err)
		return 0
	}
	defer resp.Body.Close()
	io.Copy(io.Discard, resp.Body)
	return resp.StatusCode
}

// letters are OpenPGP messages for a key that the program is given: ones that grow when they are opened, and ones that are none.
// A letter as it should be is opened first.
func (p *program) letters() []string {
	private, public, err := ours.NewKey(ours.World{Now: time.Now(), Random: rand.Reader}, "Desk", "desk@skerry.example")
	require.NoError(p.t, err)
	require.Equal(p.t, 303, p.post("/estate/secrets", url.Values{"name": {"open key"}, "type": {"OpenPGP key"}, "content": {private}}))
	require.Equal(p.t, 303, p.post("/bench/flows/open/release", url.Values{}))
	keys, err := openpgp.ReadArmoredKeyRing(strings.NewReader(public))
	require.NoError(p.t, err)
	body, err := json.Marshal(map[string]string{"text": sealed(p.t, keys, 42)})
	require.NoError(p.t, err)
	status, answer := p.call("open", bytes.NewReader(body))
	require.Equal(p.t, 200, status, answer)
	require.JSONEq(p.t, `{"text": "42"}`, answer)
	n := 8 << 20
	if full {
		n = 512 << 20
	}
	text := sealed(p.t, keys, n)
	return []string{text, text[:len(text)/2], "-----BEGIN PGP MESSAGE-----\n\n" + strings.Repeat("A", 1_000_000) + "\n-----END PGP MESSAGE-----\n", "-----BEGIN PGP MESSAGE-----\n" + strings.Repeat("a: b\n", 100_000)}
}

// sealed is a message of so many letters, compressed and encrypted.
func sealed(t *testing.T, to openpgp.EntityList, n int) string {
	var text bytes.Buffer
	armored, err := armor.Encode(&text, "PGP MESSAGE", nil)
	require.NoError(t, err)
	plain, err := openpgp.Encrypt(armored, to, nil, nil, &packet.Config{DefaultCompressionAlgo: packet.CompressionZLIB})
	require.NoError(t, err)
	some := bytes.Repeat([]byte("a"), 1<<20)
	for left := n; left > 0; left -= len(some) {
		_, err := plain.Write(some[:min(left, len(some))])
		require.NoError(t, err)
	}
	require.NoError(t, plain.Close())
	require.NoError(t, armored.Close())
	return text.String()
}

// values are what no form means, for every field and every place in an address.
func values() map[string]string {
	return map[string]string{
		"nothing": "", "long": strings.Repeat("x", 10_000), "deep": strings.Repeat("(", 5000), "zero": "\x00\xff", "path": "../../../etc/passwd", "SQL": "'; drop table run; --", "number": "99999999999999999999",
		"YAML": "a: &x [*x]", "markup": `<script>alert(1)</script>`,
	}
}

// fields are names that the forms and addresses of the pages use.
var fields = strings.Fields(`at back branch by case column condition content do env expires field find first flow formula from function id kind key label line
	list look manner message mode move name notation of on_fault op operation out path place query record release result revision rows rule sample schema
	script seed set show source span state step system target text title to type value version view when with`)

// everyRoute sends to every page what nobody means, for parts that there are and for what there is not.
func (p *program) everyRoute(do func(func())) {
	r := gin.New()
	site := &page.Site{}
	bench.Routes(r, site)
	traffic.Routes(r, site)
	estate.Routes(r, site)
	releases.Routes(r, site)
	kinds := slices.Sorted(maps.Keys(values()))
	for i, route := range r.Routes() {
		for j, name := range kinds {
			if !full && (i+j)%len(kinds) > 1 { // two of them each
				continue
			}
			value := values()[name]
			form := url.Values{}
			for _, f := range fields {
				form.Set(f, value)
			}
			for _, at := range []string{value, "victim"} {
				do(func() { p.send(route.Method, placed(route.Path, at), form, name) })
			}
		}
	}
}

// placed puts a value in the place of an address's parameters.
func placed(path, value string) string {
	parts := strings.Split(path, "/")
	for i, part := range parts {
		if strings.HasPrefix(part, ":") || strings.HasPrefix(part, "*") {
			parts[i] = url.PathEscape(value[:min(len(value), 2000)])
		}
	}
	return strings.Join(parts, "/")
}

// send is answered without a fault of the program's; what it is told comes back as no markup.
func (p *program) send(method, path string, form url.Values, name string) {
	address, body := p.pages+path, io.Reader(strings.NewReader(form.Encode()))
	if method == http.MethodGet {
		query := form.Encode()
		address, body = address+"?"+query[:min(len(query), 30_000)], nil
	}
	req, err := http.NewRequestWithContext(p.t.Context(), method, address, body)
	if err != nil {
		p.t.Errorf("%s %.100s: %s", method, path, err)
		return
	}
	req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	resp, err := p.client.Do(req)
	if err != nil {
		p.t.Errorf("%s %.100s with %s: %s", method, path, name, err)
		return
	}
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	if err != nil || resp.StatusCode >= 500 || bytes.Contains(text, []byte("<script>alert(1)")) {
		p.t.Errorf("%s %.100s with %s is answered with %d %v", method, path, name, resp.StatusCode, err)
	}
}
