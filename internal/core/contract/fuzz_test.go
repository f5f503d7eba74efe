package contract

import (
	"net/url"
	"os"
	"strconv"
	"testing"

	"github.com/stretchr/testify/require"
)

// FuzzRead: no document makes the reader fail beyond an error, and what is read can be compared, routed and checked against.
func FuzzRead(f *testing.F) {
	text, err := os.ReadFile("testdata/bookings-1.yaml")
	require.NoError(f, err)
	f.Add(text, "/bookings/B-7?since=x")
	f.Add([]byte("openapi: 3.0.0\npaths: {/{a}-{a}/{b}: {get: {responses: {default: {$ref: '#/a'}}}}}\na: {$ref: '#/a'}"), "/a-b/c")
	f.Fuzz(func(_ *testing.T, text []byte, address string) {
		c, err := Read("a.yaml", text)
		if err != nil {
			return
		}
		Compare(c, c)
		at, err := url.Parse(address)
		if err != nil {
			return
		}
		r := newRouter(c.Operations)
		for _, method := range []string{"GET", "POST"} {
			if m, _, _ := r.Find(method, at.EscapedPath()); m.Operation != nil {
				c.Check(m, Request{Query: at.Query(), ContentType: "application/json", Body: text})
			}
		}
	})
}

// TestAContractDiffersNotFromItself, whatever it says.
func TestAContractDiffersNotFromItself(t *testing.T) {
	require.Empty(t, Compare(bookings(t), bookings(t)))
}

// BenchmarkFind is how long it takes to find one of 20,000 operations.
func BenchmarkFind(b *testing.B) {
	var list []*Operation
	for i := range 20_000 {
		list = append(list, &Operation{Method: "GET", Path: "/v1/" + string(rune('a'+i%26)) + "/things" + strconv.Itoa(i) + "/{id}/parts/{part}"})
	}
	r := newRouter(list)
	b.ResetTimer()
	for range b.N {
		if m, _, _ := r.Find("GET", "/v1/a/things26/17/parts/4"); m.Operation == nil {
			b.Fatal("not found")
		}
	}
}
