package store

import (
	"regexp"
	"strings"
)

// Scope is whose runs something is about, and all that is kept with them: those of a project in an environment. It is made
// once for each request or run and handed down.
type Scope struct{ Project, Environment string }

// String is project/environment, as changes are announced.
func (s Scope) String() string { return s.Project + "/" + s.Environment }

// In is the scope of the same project in another environment.
func (s Scope) In(environment string) Scope { return Scope{s.Project, environment} }

// Environments are those in which projects run. They share nothing but the parts and the releases of a project.
var Environments = []string{"Workbench", "Trial", "Live"}

var noQueue = regexp.MustCompile(`[^a-z0-9]+`)

// Queue is the name of River's queue of an environment, from which only its workers take runs.
func Queue(environment string) string {
	return noQueue.ReplaceAllString(strings.ToLower(environment), "-")
}
