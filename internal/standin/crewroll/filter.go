package crewroll

import (
	"slices"
	"strings"

	ber "github.com/go-asn1-ber/asn1-ber"
	"github.com/go-ldap/ldap/v3"
)

// Matches says whether attributes fit a filter (RFC 4515): and, or, not, equality, presence and substrings;
// cases do not count.
func Matches(filter string, attrs map[string][]string) bool {
	p, err := ldap.CompileFilter(filter)
	return err == nil && matches(p, attrs)
}

func matches(p *ber.Packet, attrs map[string][]string) bool {
	switch p.Tag {
	case ldap.FilterAnd:
		return !slices.ContainsFunc(p.Children, func(c *ber.Packet) bool { return !matches(c, attrs) })
	case ldap.FilterOr:
		return slices.ContainsFunc(p.Children, func(c *ber.Packet) bool { return matches(c, attrs) })
	case ldap.FilterNot:
		return !matches(p.Children[0], attrs)
	case ldap.FilterPresent:
		return len(attrs[strings.ToLower(p.Data.String())]) > 0
	case ldap.FilterEqualityMatch:
		want := text(p.Children[1])
		return slices.ContainsFunc(attrs[strings.ToLower(text(p.Children[0]))], func(v string) bool { return strings.EqualFold(v, want) })
	case ldap.FilterSubstrings:
		return slices.ContainsFunc(attrs[strings.ToLower(text(p.Children[0]))], func(v string) bool { return substrings(strings.ToLower(v), p.Children[1].Children) })
	}
	return false
}

func text(p *ber.Packet) string { return p.Data.String() }

func substrings(v string, parts []*ber.Packet) bool {
	for _, part := range parts {
		want := strings.ToLower(text(part))
		switch part.Tag {
		case ldap.FilterSubstringsInitial:
			if !strings.HasPrefix(v, want) {
				return false
			}
			v = v[len(want):]
		case ldap.FilterSubstringsFinal:
			return strings.HasSuffix(v, want)
		default:
			i := strings.Index(v, want)
			if i < 0 {
				return false
			}
			v = v[i+len(want):]
		}
	}
	return true
}
