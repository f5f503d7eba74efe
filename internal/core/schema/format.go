package schema

import (
	"net/mail"
	"net/netip"
	"net/url"
	"regexp"
	"strings"

	"hollowreed/internal/core/fault"
)

var (
	uuidForm = regexp.MustCompile(`^[0-9a-fA-F]{8}-[0-9a-fA-F]{4}-[0-9a-fA-F]{4}-[0-9a-fA-F]{4}-[0-9a-fA-F]{12}$`)
	hostForm = regexp.MustCompile(`^([a-zA-Z0-9]([a-zA-Z0-9-]{0,61}[a-zA-Z0-9])?\.)*[a-zA-Z0-9]([a-zA-Z0-9-]{0,61}[a-zA-Z0-9])?$`)
)

// formats are the forms that a text can be of (JSON Schema 2020-12, validation, section 7.3).
var formats = map[string]struct {
	what string
	is   func(s string) bool
}{
	"uuid": {"a UUID (RFC 9562)", uuidForm.MatchString},
	"uri": {"a URI (RFC 3986)", func(s string) bool {
		u, err := url.Parse(s)
		return err == nil && u.Scheme != "" && !strings.ContainsAny(s, " \\<>{}|^`\"")
	}},
	"uri-reference": {"a URI, or a reference relative to one (RFC 3986)", isReference},
	"iri-reference": {"an address, or one relative to another (RFC 3987)", isReference},
	"iri": {"an address (RFC 3987)", func(s string) bool {
		head, _, colon := strings.Cut(s, ":")
		return colon && scheme.MatchString(head) && isReference(s)
	}},
	"json-pointer": {"a JSON Pointer (RFC 6901)", pointerForm.MatchString},
	"idn-email": {"an e-mail address (RFC 6531)", func(s string) bool {
		a, err := mail.ParseAddress(s)
		return err == nil && a.Address == s
	}},
	"email": {"an e-mail address (RFC 5322)", func(s string) bool {
		a, err := mail.ParseAddress(s)
		return err == nil && a.Address == s
	}},
	"hostname": {"a host name (RFC 1123)", func(s string) bool { return len(s) <= 253 && hostForm.MatchString(s) }},
	"ipv4":     {"an IPv4 address", func(s string) bool { a, err := netip.ParseAddr(s); return err == nil && a.Is4() }},
	"ipv6":     {"an IPv6 address (RFC 4291)", func(s string) bool { a, err := netip.ParseAddr(s); return err == nil && a.Is6() && a.Zone() == "" }},
}

var (
	pointerForm   = regexp.MustCompile(`^(/([^~/]|~[01])*)*$`)
	referenceForm = regexp.MustCompile(`^[^<>"{}|\\^` + "`" + `]*$`)
	badPercent    = regexp.MustCompile(`%($|[^0-9a-fA-F]|[0-9a-fA-F]($|[^0-9a-fA-F]))`)
	scheme        = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9+.-]*$`)
)

// isReference looks at what RFC 3986 asks of any reference: escapes, one fragment, and a scheme before a colon in the first
// segment.
func isReference(s string) bool {
	first, _, _ := strings.Cut(s, "/")
	before, _, colon := strings.Cut(first, ":")
	return referenceForm.MatchString(s) && !badPercent.MatchString(s) && strings.Count(s, "#") < 2 && (!colon || scheme.MatchString(before) || strings.ContainsAny(before, "?#"))
}

// HasFormat says whether a text is of a format.
func HasFormat(format, s string) bool { return formatFault(format, s) == nil }

// Formats are the names of the forms that a text can be of.
func Formats() []string {
	return []string{"uuid", "uri", "uri-reference", "iri", "iri-reference", "email", "idn-email", "hostname", "ipv4", "ipv6", "json-pointer"}
}

func formatFault(format, s string) *fault.Fault {
	f, known := formats[format]
	if !known || f.is(s) {
		return nil
	}
	return fault.Expect(fault.Pattern, f.what, fault.Quote(s))
}
