package sql

import (
	"bytes"
	"context"
	"encoding/hex"
	"fmt"
	"strconv"
	"strings"

	"github.com/jackc/pgx/v5"

	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/value"
)

// copyFrom is how many rows it takes for copying them into a table of the transaction's own to be faster than
// sending them as parameters.
const copyFrom = 1000

// upsertCopied writes rows by way of a temporary table: they are copied into it as texts, and taken over with one
// statement that says of each what it did.
func (db *DB) upsertCopied(ctx context.Context, u running.Upsert, b batch, out []running.WriteResult) error {
	ctx, cancel := context.WithTimeout(ctx, db.timeout())
	defer cancel()
	list := quoted(u.Row.Root.Layout().Names)
	return pgx.BeginFunc(ctx, db.pool, func(tx pgx.Tx) error {
		_, err := tx.Exec(ctx, fmt.Sprintf("create temporary table hollowreed_rows on commit drop as select 0 as hollowreed_n, %s from %s with no data", list, ident(u.Table)))
		if err != nil {
			return err
		}
		var text bytes.Buffer
		for n := range b.todo {
			text.WriteString(strconv.Itoa(n + 1))
			for c := range u.Row.Root.Fields {
				text.WriteByte('\t')
				copyText(&text, b.at(n, c))
			}
			text.WriteByte('\n')
		}
		if _, err := tx.Conn().PgConn().CopyFrom(ctx, &text, "copy hollowreed_rows (hollowreed_n, "+list+") from stdin"); err != nil {
			return err
		}
		result, err := tx.Query(ctx, takenOver(u, list))
		if err != nil {
			return err
		}
		return noted(result, b.todo, out)
	})
}

// escaping is what stands for characters that mean something in the text format of COPY.
var escaping = strings.NewReplacer(`\`, `\\`, "\t", `\t`, "\n", `\n`, "\r", `\r`)

func copyText(b *bytes.Buffer, v value.Value) {
	switch {
	case v.IsMissing():
		b.WriteString(`\N`)
	case v.Kind() == value.Binary:
		b.WriteString(`\\x` + hex.EncodeToString([]byte(v.Text())))
	case v.Kind() == value.Text:
		escaping.WriteString(b, v.Text())
	default:
		b.Write(v.AppendText(b.AvailableBuffer()))
	}
}

// takenOver writes the copied rows and gives the number of each that was inserted or changed.
func takenOver(u running.Upsert, list string) string {
	var join []string
	for _, k := range u.Key {
		join = append(join, fmt.Sprintf("w.%s = v.%s", column(k), column(k)))
	}
	return fmt.Sprintf(`with w as (insert into %s as t (%s) select %s from hollowreed_rows order by hollowreed_n on conflict (%s) do %s returning %s, xmax = 0 as hollowreed_new)
select v.hollowreed_n::bigint, w.hollowreed_new from hollowreed_rows v join w on %s`,
		ident(u.Table), list, list, quoted(u.Key), onConflict(u), quoted(u.Key), strings.Join(join, " and "))
}
