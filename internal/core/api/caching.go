package api

import (
	"regexp"
	"slices"
	"strings"
	"time"

	"hollowreed/internal/core/contract"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/route"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/core/value"
)

// Cache says for how long responses of an operation are kept and sent again.
type Cache struct {
	Operation *contract.Operation // nil where there is none of the name
	Settings  setting.Values
	Name      partfile.Text // of the operation, as it is written
	Index     int           // in the part
	Fresh     time.Duration // for which a response is sent as it is; 0: responses are not kept
	Stale     time.Duration // for which it is sent after that, while a new one is fetched
	key       *formula.Program
	names     []string // of the parameters, in their slots behind the caller
}

// CacheSettings are those of an operation whose responses are kept.
var CacheSettings = setting.List{
	{Name: "seconds", Label: "Cached for (s)", Type: setting.Number, Least: 1, Greatest: 31_536_000, Help: "Responses with status 200 to GET. Default: they are not kept"},
	{Name: "stale seconds", Label: "Then sent stale for (s)", Type: setting.Number, Least: 1, Greatest: 31_536_000, Help: "While a new one is fetched. Default: callers wait for the new one"},
	{Name: "key", Label: "Cache key", Type: setting.Formula, Wide: true, Hint: "upper(plate)", Help: "Calls with the same value get the same response: a formula over the parameters and caller. Default: the address with its query, what the caller accepts, and the caller"},
}

// notInNames are the characters of a parameter's name that formulas do not take; they become _.
var notInNames = regexp.MustCompile(`\W`)

// readCache reads the caching of one operation.
func (a *API) readCache(d *partfile.Doc, n partfile.Node, i int) {
	c := &Cache{Name: n.Required("operation"), Index: i, Settings: CacheSettings.Read(n)}
	n.RejectUnknown()
	a.Caches = append(a.Caches, c)
	c.Fresh, c.Stale = time.Duration(c.Settings.Int("seconds"))*time.Second, time.Duration(c.Settings.Int("stale seconds"))*time.Second
	if c.Operation = a.Operation(c.Name.Value); c.Operation == nil {
		d.Fault(c.Name, fault.New(fault.Unknown, "the contract has no operation %s", fault.Quote(c.Name.Value)).InField("operation"))
		return
	}
	if c.Operation.Method != "GET" {
		d.Fault(c.Name, fault.Expect(fault.Setting, "an operation that is asked by GET", c.Operation.Name()).InField("operation"))
		return
	}
	if slices.ContainsFunc(a.Caches[:i], func(o *Cache) bool { return o.Operation == c.Operation }) {
		d.Fault(c.Name, fault.New(fault.Setting, "the caching of the operation %s is set twice", fault.Quote(c.Name.Value)).InField("operation"))
	}
	scope := formula.NewScope()
	scope.Define("caller", formula.Type{Kind: value.Text})
	for _, p := range c.Operation.Parameters {
		c.names = append(c.names, p.Name)
		scope.Define(notInNames.ReplaceAllString(p.Name, "_"), formula.Type{Kind: value.Text, Maybe: !p.Required})
	}
	if text := c.Settings.Text("key"); text.Value != "" {
		var faults fault.List
		c.key, faults = formula.Compile(text.Value, scope)
		for _, f := range faults {
			d.Fault(text, f.InField("key"))
		}
	}
}

// Key tells the calls that get the same response from others. Parameter gives the text of a parameter beside those of the path, which
// is empty where it is not there. Whole is the key where the settings name no formula.
func (c *Cache) Key(caller string, path []route.Value, parameter func(p *contract.Parameter) string, whole string) (string, *fault.Fault) {
	if c.key == nil {
		return whole + "\n" + caller, nil
	}
	fr := formula.Frame{Slots: make([]value.Value, 1, 1+len(c.names))}
	fr.Slots[0] = value.NewText(caller)
	for _, p := range c.Operation.Parameters {
		text := ""
		if i := slices.IndexFunc(path, func(v route.Value) bool { return p.In == "path" && v.Name == p.Name }); i >= 0 {
			text = path[i].Text
		} else if p.In != "path" {
			text = parameter(p)
		}
		if text == "" && !p.Required {
			fr.Slots = append(fr.Slots, value.Value{})
			continue
		}
		fr.Slots = append(fr.Slots, value.NewText(text))
	}
	v, ft := c.key.Eval(&fr)
	if ft != nil {
		return "", ft
	}
	return "formula " + v.String(), nil
}

// CacheOf is the caching of an operation; nil where its responses are not kept.
func (a *API) CacheOf(o *contract.Operation) *Cache {
	i := slices.IndexFunc(a.Caches, func(c *Cache) bool { return c.Operation == o })
	if i < 0 || a.Caches[i].Fresh == 0 {
		return nil
	}
	return a.Caches[i]
}

// Says is the caching in words.
func (c *Cache) Says() string {
	if c.Stale == 0 {
		return span(c.Fresh)
	}
	return span(c.Fresh) + ", then stale for " + span(c.Stale)
}

// span is a duration without the parts of it that are nothing.
func span(d time.Duration) string {
	text := d.String()
	if d >= time.Minute {
		text = strings.TrimSuffix(text, "0s")
	}
	if d >= time.Hour {
		text = strings.TrimSuffix(text, "h0m") + map[bool]string{true: "h"}[strings.HasSuffix(text, "h0m")]
	}
	return text
}
