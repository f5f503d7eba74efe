package script

import (
	"strings"
	"testing"
)

// FuzzNew: a text is either a function or has a fault, and whatever it is, the next script is compiled and called.
func FuzzNew(f *testing.F) {
	for _, body := range []string{"return n * 2", "return 1})\n(function(){", "return (3n ** 400n) % 10n", strings.Repeat("{", 50), "//# sourceMappingURL=a.map", "return `${n}`", "class A { #a; static { } }", "return n?.a ?? /(?<a>b)/u"} {
		f.Add(body)
	}
	f.Fuzz(func(t *testing.T, body string) {
		fn, ft := New(body, []string{"n"}, nil)
		if (fn == nil) == (ft == nil) {
			t.Fatal("neither a function nor a fault, or both")
		}
		well, ft := New("return 21 * 2", nil, nil)
		if ft != nil {
			t.Fatalf("after %q: %s", body, ft)
		}
		if v, ft := well.Call(nil); ft != nil || v.String() != "42" {
			t.Fatalf("after %q: %v %v", body, v, ft)
		}
	})
}
