package flow

import (
	"regexp"
	"strings"
)

// Methods are those of the requests that start runs (RFC 9110, section 9).
var Methods = []string{"POST", "GET", "PUT", "PATCH", "DELETE"}

// PathOK is what the path of a trigger looks like; {name} stands for any one segment.
var PathOK = regexp.MustCompile(`^([A-Za-z0-9._-]+|\{[A-Za-z][A-Za-z0-9_]*\})(/([A-Za-z0-9._-]+|\{[A-Za-z][A-Za-z0-9_]*\}))*$`)

// parameterOf is the name of a segment that stands for any.
func parameterOf(segment string) (string, bool) {
	inner, ok := strings.CutPrefix(segment, "{")
	return strings.TrimSuffix(inner, "}"), ok
}

// PathParameters are the names in braces of a trigger's path, in their order.
func PathParameters(pattern string) (names []string) {
	for _, segment := range strings.Split(pattern, "/") {
		if name, ok := parameterOf(segment); ok {
			names = append(names, name)
		}
	}
	return names
}

// MatchPath says whether a path is one of a trigger's, and gives its parameters by name.
func MatchPath(pattern, path string) (map[string]string, bool) {
	want, found := strings.Split(pattern, "/"), strings.Split(path, "/")
	if len(want) != len(found) {
		return nil, false
	}
	values := map[string]string{}
	for i, segment := range want {
		name, any := parameterOf(segment)
		switch {
		case any && found[i] != "":
			values[name] = found[i]
		case any || segment != found[i]:
			return nil, false
		}
	}
	return values, true
}

// Closer says of two paths of triggers that match the same request whether the first is the more definite one: it has a
// fixed segment where the other one takes any.
func Closer(pattern, than string) bool {
	x, y := strings.Split(pattern, "/"), strings.Split(than, "/")
	for i := range min(len(x), len(y)) {
		_, xAny := parameterOf(x[i])
		_, yAny := parameterOf(y[i])
		if xAny != yAny {
			return yAny
		}
	}
	return false
}

// SamePaths says whether two paths of triggers take the same requests.
func SamePaths(x, y string) bool {
	_, there := MatchPath(x, y)
	_, back := MatchPath(y, x)
	return there && back && !Closer(x, y) && !Closer(y, x)
}
