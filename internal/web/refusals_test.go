package web_test

import (
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/web/webtest"
)

const invoiceRules = "mappings/booking-to-invoice.yaml"

// TestWhatIsRefusedChangesNothing: bad input to the pages of mappings, tables and libraries gets an answer
// that names it, and no part is touched.
func TestWhatIsRefusedChangesNothing(t *testing.T) {
	w := webtest.New(t)
	const of, tables, libraries = "/bench/mappings/booking-to-invoice", "/bench/tables/cargo-articles", "/bench/libraries/freight"
	parts := []string{invoiceRules, "tables/cargo-articles.yaml", "libraries/freight.yaml", "project.yaml"}
	before := map[string]string{}
	for _, p := range parts {
		before[p] = w.Text(p)
	}
	revision := func(path string) string {
		return strconv.FormatInt(w.Draft(path).Revision, 10)
	}
	for name, c := range map[string]struct {
		path, part string
		form       url.Values
		status     int
	}{
		"no such mapping":          {"/bench/mappings/none/rule", invoiceRules, url.Values{"field": {"note"}}, 404},
		"old revision":             {of + "/rule", "", url.Values{"revision": {"0"}, "field": {"note"}, "rule": {"number"}}, 409},
		"no revision":              {of + "/rule", "", url.Values{"field": {"note"}, "rule": {"number"}}, 409},
		"a rule too long":          {of + "/rule", invoiceRules, url.Values{"field": {"note"}, "rule": {strings.Repeat("a", 10_001)}}, 422},
		"a variable's name":        {of + "/rule", invoiceRules, url.Values{"field": {"/variable/"}, "name": {"a b"}, "rule": {"1"}}, 422},
		"a variable taken":         {of + "/rule", invoiceRules, url.Values{"field": {"/variable/"}, "name": {"net"}, "rule": {"1"}}, 422},
		"lists inside":             {of + "/rule", invoiceRules, url.Values{"field": {"line"}, "kind": {"each"}, "rule": {"booking.line"}, "as": {"item"}, "when": {""}, "nested lists": {"item.parts"}}, 422},
		"variables inside":         {of + "/rule", invoiceRules, url.Values{"field": {"line"}, "kind": {"each"}, "rule": {"booking.line"}, "as": {"item"}, "when": {""}, "variables": {"= 4"}}, 422},
		"what a fault does":        {of + "/settings", invoiceRules, url.Values{"on_fault": {"shrug"}}, 404},
		"a feed without a label":   {of + "/feed", invoiceRules, url.Values{"field": {"line"}, "label": {" "}}, 422},
		"a feed's odd label":       {of + "/feed", invoiceRules, url.Values{"field": {"line"}, "label": {"a/b"}}, 422},
		"a feed taken":             {of + "/feed", invoiceRules, url.Values{"field": {"party"}, "label": {"buyer"}}, 422},
		"an unknown list":          {of + "/apart", invoiceRules, url.Values{"source": {"booking.nothing"}}, 404},
		"an unknown source":        {of + "/apart", invoiceRules, url.Values{"source": {"nobody.line"}}, 404},
		"a source taken":           {of + "/sources", invoiceRules, url.Values{"schema": {"booking"}}, 422},
		"a source of no schema":    {of + "/sources", invoiceRules, url.Values{"schema": {"none"}, "name": {"x"}}, 422},
		"a source's name":          {of + "/sources", invoiceRules, url.Values{"schema": {"station"}, "name": {"a-b"}}, 422},
		"nothing to mend":          {of + "/mend", invoiceRules, url.Values{"mend": {"[rules 0 formula]"}}, 303},
		"a rule that is no orphan": {of + "/mend", invoiceRules, url.Values{"out": {"0"}}, 303},
		"rows of odd columns":      {tables + "/rows", "tables/cargo-articles.yaml", url.Values{"rows": {"class,weight\nCAR,1"}}, 422},
		"rows that are no CSV":     {tables + "/rows", "tables/cargo-articles.yaml", url.Values{"rows": {"CAR,\"7010\nVAN"}}, 422},
		"a row that is not there":  {tables + "/rows", "tables/cargo-articles.yaml", url.Values{"remove": {"99"}}, 404},
		"columns without a key":    {"/bench/tables", "", url.Values{"title": {"New"}, "columns": {"a, b decimal"}}, 422},
		"columns of three words":   {"/bench/tables", "", url.Values{"title": {"New"}, "columns": {"a* b c"}}, 422},
		"a function's name":        {libraries + "/function", "libraries/freight.yaml", url.Values{"function": {"plate"}, "name": {"check-digit"}}, 422},
		"a function's name taken":  {libraries + "/function", "libraries/freight.yaml", url.Values{"function": {"plate"}, "name": {"checkDigit"}}, 422},
		"a parameter's type":       {libraries + "/function", "libraries/freight.yaml", url.Values{"function": {"plate"}, "name": {"plate"}, "params": {"raw string"}}, 422},
		"a case without a result":  {libraries + "/function", "libraries/freight.yaml", url.Values{"function": {"plate"}, "name": {"plate"}, "cases": {"freight.plate(1 == 2)"}}, 422},
		"no such function":         {libraries + "/function", "libraries/freight.yaml", url.Values{"function": {"none"}, "name": {"none"}}, 404},
		"a new function's name":    {libraries + "/functions", "libraries/freight.yaml", url.Values{"name": {"9"}}, 422},
		"a version that is not":    {libraries + "/use", "project.yaml", url.Values{"version": {"7"}}, 404},
		"a library's title":        {"/bench/libraries", "", url.Values{"title": {"9 lives"}}, 422},
		"no such connection":       {"/bench/connections/none/test", "", url.Values{}, 404},
	} {
		t.Run(name, func(t *testing.T) {
			if c.part != "" && c.form.Get("revision") == "" {
				c.form.Set("revision", revision(c.part))
			}
			status, _ := w.Post(c.path, c.form)
			require.Equal(t, c.status, status)
			for _, p := range parts {
				require.Equal(t, before[p], w.Text(p), p)
			}
		})
	}
}

// TestPagesOfAMappingAnswer: each address gives what it should, and odd ones are not found.
func TestPagesOfAMappingAnswer(t *testing.T) {
	w := webtest.New(t)
	const of = "/bench/mappings/booking-to-invoice"
	for path, want := range map[string]string{
		of + "?field=nothing&record=99":                    "B-20417",
		of + "?show=unmade":                                "mail",
		of + "?field=/variable/nothing":                    "Booking",
		of + "?field=/condition/7":                         "Booking",
		of + "/lineage":                                    "comes from",
		of + "/lineage?source=booking.sailing":             "No rule reads it.",
		of + "/lineage?field=line/vat":                     "booking.line.class",
		of + "/specification?as=csv":                       "target,kind,type,required,rule,sources,uses,example\r\n",
		of + "/specification?as=html":                      "<!doctype html>",
		of + "/changes":                                    "is released yet",
		of + "/apart?target=party":                         "role = &#34;BY&#34;",
		of + "/help?field=line/text&rule=table(&at=6":      "The row of a table",
		of + "/help?field=line/text&rule=freight.pl&at=10": "A vehicle",
		of + "/help?field=line/&sort=yes&rule=item.price%20descending%3B%20item.class&at=-1": `data-wrong="null"`,
		of + "/help?field=line/&sort=yes&rule=item.class%3B%20item.none%20descending&at=-1":  `data-wrong="[{&#34;from&#34;:`,
		"/bench/tables/cargo-articles?as=csv":                                                "class,article,title,vat_percent\r\n",
		"/bench/tables/cargo-articles?find=foot":                                             "Passenger on foot",
		"/bench/libraries/freight?function=none":                                             "Freight functions",
		"/bench/connections/gauge-drop":                                                      "Press Test",
	} {
		res := w.Get(path)
		body, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		require.NoError(t, res.Body.Close())
		require.Equal(t, http.StatusOK, res.StatusCode, path)
		require.Contains(t, string(body), want, path)
	}
	for _, path := range []string{of + "/lineage?field=nothing", of + "/apart?source=booking", "/bench/mappings/none/changes", "/bench/mappings/none/lineage", of + "/apart?target=note"} {
		res := w.Get(path)
		require.NoError(t, res.Body.Close())
		require.Equal(t, http.StatusNotFound, res.StatusCode, path)
	}
}
