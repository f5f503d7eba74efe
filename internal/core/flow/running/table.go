package running

import (
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/table"
	"hollowreed/internal/core/value"
)

// TableSpace is the space of the state store with the rows of a table that flows have changed. An empty text is a row that
// was deleted.
func TableSpace(id string) string { return "table/" + id }

// ChangedRow is a row of a table as a flow has changed it; gone where it was taken away.
type ChangedRow struct {
	Key     string
	Row     value.Value
	Deleted bool
}

// ReadChanged reads what is remembered of a table's row.
func ReadChanged(t *table.Table, key, text string) ChangedRow {
	if text == "" {
		return ChangedRow{Key: key, Deleted: true}
	}
	return ChangedRow{Key: key, Row: KeptOf(RecordOf("row", RowOf(t), 0)).Read(text)}
}

// RowOf is the schema of a table's rows.
func RowOf(t *table.Table) *schema.Schema {
	return &schema.Schema{ID: t.ID, Title: t.Title, Notation: json.Kind.Notation, Root: t.Row}
}
