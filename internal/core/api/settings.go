package api

import (
	"net/url"
	"slices"
	"strings"
	"time"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/setting"
)

// Verdict is what is done about a message that breaks the contract.
type Verdict string

// The verdicts.
const (
	Refuse Verdict = "refuse"
	Report Verdict = "report" // it is let through and counted
	Off    Verdict = "off"
)

// Whose calls are counted together against limits.
const (
	LimitCaller    = "each caller"
	LimitOperation = "each caller and operation"
	LimitAPI       = "all callers together"
)

// Logged is which calls get into the log.
type Logged string

// The calls that do: those with a status from 400 on, all, or none.
const (
	LogFailed Logged = "failed"
	LogAll    Logged = "all"
	LogNone   Logged = "none"
)

// Takes says whether a call with a status does.
func (l Logged) Takes(status int) bool { return l == LogAll || l == LogFailed && status >= 400 }

// Guards are what stands before the operations of an API.
type Guards struct {
	Version         string // that callers name in a header; empty: for those that name none
	VersionHeader   string
	Status          Lifecycle
	DeprecatedSince time.Time
	RetiresOn       time.Time
	Successor       string
	Requests        Verdict
	Answers         Verdict
	Callers         string // how they say who they are
	KeyHeader       string // of a key
	Tokens          Tokens
	PerMinute       int           // calls of one caller, or of one address where callers are not known; 0: any number
	PerDay          int           // the same for a day in UTC
	LimitsOf        string        // whose calls are counted together
	Concurrency     int           // calls at once in a process; 0: any number
	MaxBody         int64         // bytes
	Timeout         time.Duration // of an answer
	Log             Logged        // which calls get into the log
	LogBodies       Logged        // and with their bodies
	Masked          []string      // names of fields whose values do not
	LogDays         int
	Origins         []string // pages that may call from a browser; * is any
}

// Settings are those of an API.
var Settings = slices.Concat(setting.List{
	{Name: "base", Label: "Base path", Type: setting.Text, Help: "Below which its operations are called, for example v1/bookings. Default: its id"},
	{Name: "version", Label: "Version", Type: setting.Text, Rare: true, Hint: "2", Help: "Of several APIs with the same base, the one that callers name in a header. Default: for callers that name none"},
	{Name: "version header", Label: "Header of the version", Type: setting.Text, Default: "Api-Version", Rare: true},
	{Name: "status", Label: "Status", Type: setting.Choice, Default: string(Published), Choices: []string{string(Published), string(Deprecated), string(Retired)}, Redraw: true, Help: "Deprecated is told in headers; retired is answered with 410"},
	{Name: "deprecated since", Label: "Deprecated since", Type: setting.Text, When: "status=deprecated", Hint: "2027-01-31", Help: "Sent in the header Deprecation (RFC 9745)"},
	{Name: "retires on", Label: "Retires on", Type: setting.Text, When: "status=deprecated", Hint: "2027-06-30", Help: "Sent in the header Sunset (RFC 8594); from that day on it is answered with 410"},
	{Name: "successor", Label: "Successor", Type: setting.Text, When: "status=deprecated|retired", Hint: "/in/v2/bookings", Help: "The address that callers should use instead (RFC 5829)"},
	{Name: "request validation", Label: "Requests that break the contract", Type: setting.Choice, Default: string(Refuse), Choices: []string{string(Refuse), string(Report), string(Off)}, Help: "Operations that flows answer always refuse them"},
	{Name: "response validation", Label: "Responses that break the contract", Type: setting.Choice, Default: string(Report), Choices: []string{string(Refuse), string(Report), string(Off)}, Help: "Refused ones become 502. Those of flows have the schema of the contract"},
}, callerSettings, setting.List{
	{Name: "rate limit", Label: "Rate limit (calls/min)", Type: setting.Number, Least: 1, Greatest: 1_000_000, Help: "Of each caller, in all workers together. Default: no limit"},
	{Name: "daily quota", Label: "Daily quota (calls)", Type: setting.Number, Least: 1, Greatest: 1_000_000_000, Help: "Of each caller, a day in UTC. Default: no limit"},
	{Name: "limits of", Label: "Limits are of", Type: setting.Choice, Default: LimitCaller, Choices: []string{LimitCaller, LimitOperation, LimitAPI}, Rare: true, Help: "Each caller, each caller and operation, or all callers together"},
	{Name: "concurrency", Label: "Concurrent calls (at most)", Type: setting.Number, Least: 1, Greatest: 10000, Rare: true, Help: "In each worker; others get 503 with Retry-After. Default: no limit"},
	{Name: "max body", Label: "Largest request (KB)", Type: setting.Number, Default: "4096", Least: 1, Greatest: 1 << 20, Rare: true, Help: "Of operations that flows answer at most 4096"},
	{Name: "timeout", Label: "Response timeout (s)", Type: setting.Number, Default: "30", Least: 1, Greatest: 3600, Rare: true, Help: "Of what is passed through; then 504. Flows have their own"},
	{Name: "log", Label: "Calls in the log", Type: setting.Choice, Default: string(LogFailed), Choices: []string{string(LogFailed), string(LogAll), string(LogNone)}, Rare: true, Help: "Failed ones are those with a status from 400 on"},
	{Name: "log bodies", Label: "Bodies in the log", Type: setting.Choice, Default: string(LogNone), Choices: []string{string(LogNone), string(LogFailed), string(LogAll)}, Rare: true, Help: "Of what is passed through or answered by examples, up to 64 KB; those of flows are kept with their runs"},
	{Name: "masked fields", Label: "Masked fields", Type: setting.Text, Rare: true, Hint: "mail, card_number", Help: "Names with commas between: their values never get into the log, and bodies that are not JSON are not kept"},
	{Name: "log days", Label: "Log retention (days)", Type: setting.Number, Default: "7", Least: 1, Greatest: 3650, Rare: true},
	{Name: "origins", Label: "Allowed origins", Type: setting.Text, Rare: true, Hint: "https://desk.example", Help: "Sites whose pages may call, with blanks between, or * for any (CORS). Default: none"},
})

// guardsOf reads the guards of settings.
func guardsOf(d *partfile.Doc, v setting.Values) Guards {
	g := Guards{
		Version: v.Get("version"), VersionHeader: v.Get("version header"), Status: Lifecycle(v.Get("status")), Successor: v.Get("successor"), Requests: Verdict(v.Get("request validation")), Answers: Verdict(v.Get("response validation")),
		Callers: v.Get("callers"), KeyHeader: v.Get("key header"), PerMinute: v.Int("rate limit"), PerDay: v.Int("daily quota"), LimitsOf: v.Get("limits of"),
		Concurrency: v.Int("concurrency"), MaxBody: int64(v.Int("max body")) << 10, Timeout: time.Duration(v.Int("timeout")) * time.Second,
		Origins: strings.Fields(v.Get("origins")),
	}
	g.Log, g.LogBodies, g.Masked, g.LogDays = Logged(v.Get("log")), Logged(v.Get("log bodies")), names(v.Get("masked fields")), v.Int("log days")
	g.Tokens = tokensOf(d, v)
	g.DeprecatedSince, g.RetiresOn = day(d, v, "deprecated since"), day(d, v, "retires on")
	for _, o := range g.Origins {
		if u, err := url.Parse(o); o != "*" && (err != nil || u.Scheme == "" || u.Host == "" || u.Path != "") {
			d.Fault(v.Text("origins"), fault.Expect(fault.Setting, "an origin as https://desk.example", fault.Quote(o)).InField("origins"))
		}
	}
	if !tokenOK.MatchString(g.VersionHeader) {
		d.Fault(v.Text("version header"), fault.Expect(fault.Setting, "the name of a header", fault.Quote(g.VersionHeader)).InField("version header"))
	}
	if !tokenOK.MatchString(g.KeyHeader) {
		d.Fault(v.Text("key header"), fault.Expect(fault.Setting, "the name of a header", fault.Quote(g.KeyHeader)).InField("key header"))
	}
	return g
}

func day(d *partfile.Doc, v setting.Values, name string) (at time.Time) {
	text := v.Text(name)
	if text.Value == "" {
		return at
	}
	at, err := time.Parse(time.DateOnly, text.Value)
	if err != nil {
		d.Fault(text, fault.Expect(fault.Setting, "a date as 2027-01-31", fault.Quote(text.Value)).InField(name))
	}
	return at
}

// MayCall says whether pages of an origin may call from a browser.
func (g Guards) MayCall(origin string) bool {
	for _, o := range g.Origins {
		if o == "*" || strings.EqualFold(o, origin) {
			return true
		}
	}
	return false
}
