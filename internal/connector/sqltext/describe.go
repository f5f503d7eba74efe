package sqltext

import (
	"strings"
	"time"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// DescribeTime bounds how long a database may take to describe something and to give its first rows.
const DescribeTime = 10 * time.Second

// QueryOf is the query whose result is described: a query as a person wrote it, or all columns of a table by its name.
// Which of the two it is tells its first word.
func (d Dialect) QueryOf(what string) (string, error) {
	what = strings.TrimRight(strings.TrimSpace(what), "; \n")
	switch {
	case what == "":
		return "", fault.New(fault.Required, "name a table, or write a query")
	case IsQuery(what):
		return what, nil
	}
	return "select * from " + d.Ident(what), nil
}

// Column is the field of a column of which only the name is known: a text that may be null.
func Column(name string) *schema.Field {
	return &schema.Field{Name: name, Kind: value.Text, Max: 1, Nullable: true, Constraints: schema.Constraints{FractionDigits: -1}}
}

// RowSchema is the schema of rows with these columns; leftOut says what of them it cannot hold.
func RowSchema(id string, columns []*schema.Field, leftOut []string) (*schema.Schema, error) {
	if len(columns) == 0 {
		return nil, fault.New(fault.Setting, "the statement gives no columns")
	}
	seen := map[string]bool{}
	for _, c := range columns {
		if seen[c.Name] {
			return nil, fault.New(fault.Setting, "two columns are called %s", c.Name).WithFix("Give one of them another name with as")
		}
		seen[c.Name] = true
	}
	root := &schema.Field{Name: id, Kind: value.RecordKind, Min: 1, Max: 1, Constraints: schema.Constraints{FractionDigits: -1}, Fields: columns}
	return &schema.Schema{ID: id, Title: id, Notation: schema.Rows, Root: root.Compiled(), NotImported: leftOut}, nil
}
