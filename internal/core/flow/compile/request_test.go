package compile

import (
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/schema"
)

// TestAnAnswerWithoutABodyHasNone: also where an answer that was given before has one.
func TestAnAnswerWithoutABodyHasNone(t *testing.T) {
	of, own := &schema.Schema{ID: "of"}, &schema.Schema{ID: "own"}
	p := &running.Plan{Output: of, Answers: map[string]*schema.Schema{"own": own}}
	require.Same(t, of, p.AnswerSchema(nil))
	require.Same(t, of, p.AnswerSchema(&running.Reply{Status: 200}))
	require.Same(t, own, p.AnswerSchema(&running.Reply{Status: 404, Schema: "own"}))
	require.Nil(t, p.AnswerSchema(&running.Reply{Status: 204, Empty: true}))
}

// TestParametersLeaveTheirSchemaAlone: the fields of a flow's request are its own, since flows are compiled beside each other.
func TestParametersLeaveTheirSchemaAlone(t *testing.T) {
	own := ownFields(running.Request.Fields)
	require.Len(t, own, len(running.Request.Fields))
	for i, f := range own {
		require.NotSame(t, running.Request.Fields[i], f)
		require.Equal(t, running.Request.Fields[i].Name, f.Name)
	}
}
