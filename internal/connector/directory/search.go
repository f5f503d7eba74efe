package directory

import (
	"context"
	"fmt"
	"iter"
	"strings"
	"time"

	"github.com/go-ldap/ldap/v3"

	"hollowreed/internal/connector/system"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// Filled puts the request's fields into a filter, escaped (RFC 4515, 3).
func Filled(filter string, request value.Value) (string, error) {
	var b strings.Builder
	for rest := filter; ; {
		before, after, ok := strings.Cut(rest, "{")
		b.WriteString(before)
		if !ok {
			return b.String(), nil
		}
		name, tail, ok := strings.Cut(after, "}")
		if !ok {
			return "", fault.New(fault.Syntax, "a brace in the filter is not ended").InField("filter")
		}
		v := request.Field(name)
		if v.IsMissing() {
			return "", fault.New(fault.Required, "the request has no %s", name).InField(name)
		}
		b.WriteString(ldap.EscapeFilter(v.String()))
		rest = tail
	}
}

// search makes the search of an operation.
func (d *Directory) search(r system.Request) (*ldap.SearchRequest, error) {
	filter, err := Filled(r.Op.Setting("filter"), r.Value)
	if err != nil {
		return nil, err
	}
	if _, err := ldap.CompileFilter(filter); err != nil {
		return nil, fault.Expect(fault.Syntax, "a filter as (badge=4117) (RFC 4515)", fault.Quote(filter)).InField("filter")
	}
	base := d.env.Values["base"]
	if below := r.Op.Setting("below"); below != "" {
		base = below + "," + base
	}
	scope := ldap.ScopeWholeSubtree
	if r.Op.Setting("depth") == "one level" {
		scope = ldap.ScopeSingleLevel
	}
	var names []string
	if r.Op.Response != nil {
		for _, f := range r.Op.Response.Root.Fields {
			if f.Name != "dn" {
				names = append(names, f.Name)
			}
		}
	}
	return ldap.NewSearchRequest(base, scope, ldap.NeverDerefAliases, 0, int(d.env.Values.Timeout()/time.Second), false, filter, names, nil), nil
}

// Read gives the entries that a filter finds, page by page (RFC 2696), or the members of a group.
func (d *Directory) Read(ctx context.Context, r system.Request) iter.Seq2[value.Value, error] {
	return func(yield func(value.Value, error) bool) {
		if r.Op.Kind.Name == "members" {
			d.members(ctx, r, yield)
			return
		}
		req, err := d.search(r)
		if err != nil {
			yield(value.Value{}, err)
			return
		}
		size := 500
		fmt.Sscan(r.Op.Setting("page size"), &size)
		page := ldap.NewControlPaging(uint32(size))
		req.Controls = []ldap.Control{page}
		x := system.ExchangeOf(ctx)
		x.Sent("search", shown(req))
		for {
			var res *ldap.SearchResult
			if err := d.with(ctx, len(page.Cookie) == 0, func(c *ldap.Conn) (err error) {
				res, err = c.Search(req)
				return err
			}); err != nil {
				x.Received("refused", err.Error())
				yield(value.Value{}, err)
				return
			}
			x.Received(fmt.Sprintf("%d entries", len(res.Entries)), entries(x, res.Entries))
			for _, e := range res.Entries {
				v, err := record(e, r.Op.Response)
				if !yield(v, err) || err != nil {
					return
				}
			}
			next, ok := ldap.FindControl(res.Controls, ldap.ControlTypePaging).(*ldap.ControlPaging)
			if !ok || len(next.Cookie) == 0 {
				return
			}
			page.SetCookie(next.Cookie)
		}
	}
}

// entries writes entries as text, where somebody listens.
func entries(x *system.Exchange, list []*ldap.Entry) string {
	if x == nil {
		return ""
	}
	var b strings.Builder
	for _, e := range list {
		fmt.Fprintf(&b, "dn: %s\n", e.DN)
		for _, a := range e.Attributes {
			for _, v := range a.Values {
				fmt.Fprintf(&b, "%s: %s\n", a.Name, v)
			}
		}
		b.WriteByte('\n')
	}
	return strings.TrimSpace(b.String())
}

func shown(r *ldap.SearchRequest) string {
	return fmt.Sprintf("base   %s\nscope  %s\nfilter %s\nasked  %s", r.BaseDN, ldap.ScopeMap[r.Scope], r.Filter, strings.Join(r.Attributes, ", "))
}

// record makes a record of an entry: dn, and its attributes by the fields' names. Without a schema each attribute
// is a text, or a list of texts.
func record(e *ldap.Entry, s *schema.Schema) (value.Value, error) {
	if s == nil {
		names, fields := []string{"dn"}, []value.Value{value.NewText(e.DN)}
		for _, a := range e.Attributes {
			names = append(names, a.Name)
			fields = append(fields, many(a.Values))
		}
		return value.NewRecord(value.NewLayout(names...), fields), nil
	}
	fields := make([]value.Value, len(s.Root.Fields))
	for i, f := range s.Root.Fields {
		if f.Name == "dn" {
			fields[i] = value.NewText(e.DN)
			continue
		}
		v, err := attribute(e.GetRawAttributeValues(f.Name), f)
		if err != nil {
			return value.Value{}, err
		}
		fields[i] = v
	}
	return value.NewRecord(s.Root.Layout(), fields), nil
}

func many(list []string) value.Value {
	if len(list) == 1 {
		return value.NewText(list[0])
	}
	items := make([]value.Value, len(list))
	for i, t := range list {
		items[i] = value.NewText(t)
	}
	return value.ListOf(items...)
}

func attribute(raw [][]byte, f *schema.Field) (value.Value, error) {
	if len(raw) == 0 {
		return value.Value{}, nil
	}
	items := make([]value.Value, len(raw))
	for i, b := range raw {
		v, ok := read(f, string(b))
		if !ok {
			return v, fault.Expect(fault.Type, f.Kind.String(), fault.Quote(string(b))).InField(f.Name)
		}
		items[i] = v
	}
	if f.List() {
		return value.ListOf(items...), nil
	}
	return items[0], nil
}

// read reads an attribute's value: a time as RFC 4517 (3.3.13) writes it, TRUE or FALSE, or as it is.
func read(f *schema.Field, s string) (value.Value, bool) {
	switch f.Kind {
	case value.Binary:
		return value.Bytes(s), true
	case value.Boolean:
		return value.Bool(s == "TRUE"), s == "TRUE" || s == "FALSE"
	case value.Timestamp:
		t, err := time.Parse("20060102150405Z0700", s)
		if err != nil {
			t, err = time.Parse("20060102150405.999Z0700", s)
		}
		return value.Instant(t.UTC()), err == nil
	}
	return schema.ParseScalar(f.Kind, s)
}

func (d *Directory) members(ctx context.Context, r system.Request, yield func(value.Value, error) bool) {
	var res *ldap.SearchResult
	err := d.with(ctx, true, func(c *ldap.Conn) (err error) {
		res, err = c.Search(ldap.NewSearchRequest(r.Value.Field("dn").String(), ldap.ScopeBaseObject, ldap.NeverDerefAliases, 0, 0, false, "(objectClass=*)", []string{"member", "uniqueMember"}, nil))
		return err
	})
	if err != nil {
		yield(value.Value{}, err)
		return
	}
	for _, e := range res.Entries {
		for _, dn := range append(e.GetAttributeValues("member"), e.GetAttributeValues("uniqueMember")...) {
			if !yield(value.NewRecord(r.Op.Response.Root.Layout(), []value.Value{value.NewText(dn)}), nil) {
				return
			}
		}
	}
}
