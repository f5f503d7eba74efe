package store

import (
	"context"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgtype"
)

// sentAsBytes lets a connection send identifiers as the 16 bytes that they are. By itself it would write each as text, through
// database/sql's interface, and read that again first.
func sentAsBytes(_ context.Context, c *pgx.Conn) error {
	m := c.TypeMap()
	m.TryWrapEncodePlanFuncs = append([]pgtype.TryWrapEncodePlanFunc{wrapID}, m.TryWrapEncodePlanFuncs...)
	return nil
}

func wrapID(value any) (plan pgtype.WrappedEncodePlanNextSetter, next any, ok bool) {
	id, ok := value.(uuid.UUID)
	return &idPlan{}, idBytes(id), ok
}

// idBytes is an identifier as pgx takes it.
type idBytes uuid.UUID

// UUIDValue gives the bytes.
func (b idBytes) UUIDValue() (pgtype.UUID, error) { return pgtype.UUID{Bytes: b, Valid: true}, nil }

type idPlan struct{ next pgtype.EncodePlan }

// SetNext sets the plan for the bytes.
func (p *idPlan) SetNext(next pgtype.EncodePlan) { p.next = next }

// Encode writes the bytes.
func (p *idPlan) Encode(value any, buf []byte) ([]byte, error) {
	return p.next.Encode(idBytes(value.(uuid.UUID)), buf)
}
