package formula

import (
	"crypto/hmac"
	"crypto/sha256"
	"crypto/sha512"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"encoding/xml"
	"fmt"
	"hash/crc32"
	"html"
	"math/big"
	"net/url"
	"strings"
	"unicode/utf8"

	"github.com/google/uuid"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/value"
)

// code makes a function from text to text that may refuse.
func code(name, about string, fn func(string) (string, error), examples ...Example) Function {
	return pure(name, "encoding", about, oneText, value.Text, func(a []value.Value) (value.Value, error) {
		s, err := fn(a[0].Text())
		if err == nil && !utf8.ValidString(s) {
			err = fault.Expect(fault.Encoding, "text in UTF-8", "other bytes")
		}
		if err != nil {
			return value.Value{}, fault.From(err, fault.Syntax)
		}
		return str(s)
	}, examples...)
}

func sure(fn func(string) string) func(string) (string, error) {
	return func(s string) (string, error) { return fn(s), nil }
}

// encodings are the functions that write and read encodings, and those that hash.
var encodings = []Function{
	code("base64", "The text, in UTF-8, as base64 (RFC 4648).", sure(func(s string) string { return base64.StdEncoding.EncodeToString([]byte(s)) }), ex(`base64("kelp")`, "a2VscA==")),
	code("fromBase64", "The text, in UTF-8, of base64 (RFC 4648).", func(s string) (string, error) {
		raw, err := base64.StdEncoding.DecodeString(strings.TrimSpace(s))
		if err != nil {
			return "", fault.Expect(fault.Syntax, "base64", fault.Quote(s))
		}
		return string(raw), nil
	}, ex(`fromBase64("a2VscA==")`, "kelp")),
	code("base64Url", "The text, in UTF-8, as base64 for addresses and file names, without padding (RFC 4648, section 5).", sure(func(s string) string { return base64.RawURLEncoding.EncodeToString([]byte(s)) }), ex(`base64Url("??>")`, "Pz8-")),
	code("hex", "The bytes of the text, in UTF-8, as hexadecimal digits.", sure(func(s string) string { return hex.EncodeToString([]byte(s)) }), ex(`hex("SK")`, "534b")),
	code("fromHex", "The text, in UTF-8, of hexadecimal digits.", func(s string) (string, error) {
		raw, err := hex.DecodeString(strings.TrimSpace(s))
		if err != nil {
			return "", fault.Expect(fault.Syntax, "pairs of hexadecimal digits", fault.Quote(s))
		}
		return string(raw), nil
	}, ex(`fromHex("534b")`, "SK")),
	code("urlEncode", "The text as it can stand in a query of an address (RFC 3986).", sure(func(s string) string { return strings.ReplaceAll(url.QueryEscape(s), "+", "%20") }), ex(`urlEncode("a b&c")`, "a%20b%26c")),
	code("urlDecode", "The text of a query of an address.", func(s string) (string, error) {
		out, err := url.QueryUnescape(s)
		if err != nil {
			return "", fault.Expect(fault.Syntax, "% before two hexadecimal digits", fault.Quote(s))
		}
		return out, nil
	}, ex(`urlDecode("a%20b+c")`, "a b c")),
	code("escapeXML", "The text as it can stand in XML.", func(s string) (string, error) {
		var b strings.Builder
		err := xml.EscapeText(&b, []byte(s))
		return b.String(), err
	}, ex(`escapeXML("a < b & c")`, "a &lt; b &amp; c")),
	code("unescapeXML", "The text with the entities of XML and HTML resolved.", sure(html.UnescapeString), ex(`unescapeXML("a &lt; b &#38; c")`, "a < b & c")),
	code("escapeJSON", "The text as it stands between the quotes of a JSON string.", func(s string) (string, error) {
		var b strings.Builder
		enc := json.NewEncoder(&b)
		enc.SetEscapeHTML(false)
		err := enc.Encode(s)
		out := strings.TrimSpace(b.String())
		return out[1 : len(out)-1], err
	}, ex(`escapeJSON("say \"hi\"")`, `say \"hi\"`)),
	code("sha256", "The SHA-256 hash of the text, in UTF-8, as hexadecimal digits (FIPS 180-4).", sure(func(s string) string { return fmt.Sprintf("%x", sha256.Sum256([]byte(s))) }), ex(`left(sha256("abc"), 16)`, "ba7816bf8f01cfea")),
	code("sha512", "The SHA-512 hash of the text, in UTF-8, as hexadecimal digits (FIPS 180-4).", sure(func(s string) string { return fmt.Sprintf("%x", sha512.Sum512([]byte(s))) }), ex(`left(sha512("abc"), 16)`, "ddaf35a193617aba")),
	code("crc32", "The CRC-32 of the text, in UTF-8, as eight hexadecimal digits.", sure(func(s string) string { return fmt.Sprintf("%08x", crc32.ChecksumIEEE([]byte(s))) }), ex(`crc32("123456789")`, "cbf43926")),
	pure("hmacSha256", "encoding", "The HMAC of a text with a key, by SHA-256, as hexadecimal digits (RFC 2104).", []Param{p("text", textKind), p("key", textKind)}, value.Text, func(a []value.Value) (value.Value, error) {
		mac := hmac.New(sha256.New, []byte(a[1].Text()))
		mac.Write([]byte(a[0].Text())) // never fails
		return str(hex.EncodeToString(mac.Sum(nil)))
	}, ex(`left(hmacSha256("what do ya want for nothing?", "Jefe"), 16)`, "5bdcc146bf60754e")),
}

// identifiers are the functions that make and check identifiers.
var identifiers = []Function{
	pure("uuid5", "identifiers", "The UUID of a name in the namespace of another UUID, always the same (RFC 9562, version 5).", []Param{p("namespace", textKind), p("name", textKind)}, value.Text, func(a []value.Value) (value.Value, error) {
		space, err := uuid.Parse(a[0].Text())
		if err != nil {
			return value.Value{}, fault.Expect(fault.Syntax, "a UUID as namespace", fault.Quote(a[0].Text()))
		}
		return str(uuid.NewSHA1(space, []byte(a[1].Text())).String())
	}, ex(`uuid5("6ba7b810-9dad-11d1-80b4-00c04fd430c8", "www.example.com")`, "2ed6657d-e927-568b-95e1-2665a8aea6a2")),
	pure("isUUID", "identifiers", "Whether a text is a UUID (RFC 9562).", oneText, value.Boolean, func(a []value.Value) (value.Value, error) {
		return value.Bool(len(a[0].Text()) == 36 && uuid.Validate(a[0].Text()) == nil), nil
	}, ex(`isUUID("2ed6657d-e927-568b-95e1-2665a8aea6a2")`, "true")),
	pure("isIBAN", "identifiers", "Whether a text is a bank account number with a right check (ISO 13616); spaces do not count.", oneText, value.Boolean, func(a []value.Value) (value.Value, error) {
		return value.Bool(iban(strings.ReplaceAll(a[0].Text(), " ", ""))), nil
	}, ex(`isIBAN("GB82 WEST 1234 5698 7654 32")`, "true"), ex(`isIBAN("GB82 WEST 1234 5698 7654 33")`, "false")),
	pure("isLuhn", "identifiers", "Whether the last digit of a number is its right check (ISO/IEC 7812, annex B); spaces do not count.", oneText, value.Boolean, func(a []value.Value) (value.Value, error) {
		return value.Bool(luhn(strings.ReplaceAll(a[0].Text(), " ", ""))), nil
	}, ex(`isLuhn("7992 7398 713")`, "true"), ex(`isLuhn("79927398710")`, "false")),
	pure("checkDigit", "identifiers", "The check digit of a text of digits by weights of 3 and 1 from its end, as in GTIN and SSCC.", oneText, value.Integer, func(a []value.Value) (value.Value, error) {
		sum, s := 0, a[0].Text()
		for i := range len(s) {
			c := s[len(s)-1-i]
			if c < '0' || c > '9' {
				return value.Value{}, fault.Expect(fault.Type, "digits", fault.Quote(s))
			}
			sum += int(c-'0') * []int{3, 1}[i%2]
		}
		return value.Int(int64((10 - sum%10) % 10)), nil
	}, ex(`checkDigit("629104150021")`, "3")),
}

func iban(s string) bool {
	if len(s) < 15 || len(s) > 34 {
		return false
	}
	var digits strings.Builder
	for _, r := range s[4:] + s[:4] {
		switch {
		case r >= '0' && r <= '9':
			digits.WriteRune(r)
		case r >= 'A' && r <= 'Z':
			fmt.Fprintf(&digits, "%d", r-'A'+10)
		default:
			return false
		}
	}
	n, ok := new(big.Int).SetString(digits.String(), 10)
	return ok && new(big.Int).Mod(n, big.NewInt(97)).Int64() == 1
}

func luhn(s string) bool {
	sum := 0
	for i := range len(s) {
		c := s[len(s)-1-i]
		if c < '0' || c > '9' {
			return false
		}
		d := int(c - '0')
		if i%2 == 1 {
			if d *= 2; d > 9 {
				d -= 9
			}
		}
		sum += d
	}
	return len(s) > 1 && sum%10 == 0
}
