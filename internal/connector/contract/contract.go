// Package contract helps to test kinds of system against stand-ins and real servers: operations made of
// their text, systems opened of their settings, answers as JSON.
package contract

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/connector/probe"
	"hollowreed/internal/connector/system"
	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/project"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// Env is what a system of a kind is opened in: with the defaults of the settings that are not given.
func Env(kind string, values map[string]string) system.Env {
	v := system.Values{}
	for _, s := range connection.KindOf(kind).Settings {
		v[s.Name] = s.Default
	}
	for name, text := range values {
		v[name] = text
	}
	return system.Env{ID: "desk", Values: v}
}

// Part parses a connection part; schemas are the parts that it names.
func Part(t testing.TB, text string, schemas ...*schema.Schema) *connection.Connection {
	t.Helper()
	d := partfile.Parse("desk.yaml", []byte(text))
	c := connection.Parse("desk", d)
	c.Resolve(func(id string) *schema.Schema {
		for _, s := range schemas {
			if s.ID == id {
				return s
			}
		}
		return nil
	}, formula.Env{})
	require.Empty(t, d.Faults)
	return c
}

// Schema parses a schema part.
func Schema(t testing.TB, id, text string) *schema.Schema {
	t.Helper()
	d := partfile.Parse(id, []byte(text))
	s := schema.Parse(id, d)
	require.Empty(t, d.Faults)
	return s
}

// Request makes a request of an operation of JSON.
func Request(t testing.TB, c *connection.Connection, op, json string) system.Request {
	t.Helper()
	o := c.Operation(op)
	require.NotNil(t, o, op)
	r := system.Request{Op: o}
	if json != "" {
		rows, err := project.ReadJSON(o.Request, json)
		require.NoError(t, err)
		r.Value = rows[0]
	}
	return r
}

// All reads all records of an operation.
func All(t testing.TB, s system.Reader, r system.Request) []value.Value {
	t.Helper()
	list, err := Some(s, t, r)
	require.NoError(t, err)
	return list
}

// Some reads the records of an operation up to its error.
func Some(s system.Reader, t testing.TB, r system.Request) (list []value.Value, err error) {
	for v, err := range s.Read(t.Context(), r) {
		if err != nil {
			return list, err
		}
		list = append(list, v)
	}
	return list, nil
}

// Probe tries a system and tells its stages, one a line.
func Probe(t testing.TB, s system.System) (well bool, told string) {
	t.Helper()
	r := &probe.Run{Why: system.Untrusted}
	s.Probe(t.Context(), r)
	var lines []string
	for _, st := range r.Stages {
		lines = append(lines, st.Name+": "+st.Finding+"; "+st.Advice)
	}
	return r.Passed(), strings.Join(lines, "\n")
}
