// Package tables holds the page of a table.
package tables

import (
	"embed"
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/project"
	"hollowreed/internal/core/table"
	"hollowreed/internal/design"
	"hollowreed/internal/store"
	"hollowreed/internal/web/bench/base"
	"hollowreed/internal/web/page"
)

//go:embed *.html
var files embed.FS

type pages struct{ base.Pages }

// Routes adds the addresses of tables.
func Routes(r gin.IRouter, s *page.Site) {
	b := pages{base.Pages{Site: s}}
	r.GET("/bench/tables/:id", s.Do(b.table))
	r.POST("/bench/tables", s.Do(b.addTable))
	r.POST("/bench/tables/:id", s.Do(b.setTable))
	r.POST("/bench/tables/:id/rows", s.Do(b.changeRows))
	r.POST("/bench/tables/:id/forget", s.Do(b.forgetChanged))
}

var tableView = page.Parse(files, "table.html")

// rowsShown bounds the rows on one page; the others are found.
const rowsShown = 200

// tablePage is a table with its rows to be changed in place.
type tablePage struct {
	page.Frame
	ID, Path   string
	Table      *table.Table
	Draft      store.Draft
	Rows       []tableRow
	Default    []string // the values of the default row, beside the keys
	Find       string
	More       int // rows that are not shown
	Faults     fault.List
	Dependents []project.Dependent
	Nones      []string
	Told       string
	Pasted     string
	OOB        bool
	Changed    []changedRow // by flows, since the table was released
}

// changedRow is a row as a flow has changed it.
type changedRow struct {
	Key   string
	Cells []string
	Gone  bool
}

// tableRow is one row as the part writes it.
type tableRow struct {
	At    int
	Cells []string
}

func (b pages) tableOf(c *gin.Context) (*project.Project, *tablePage, error) {
	p, err := b.Load(c)
	if err != nil {
		return nil, nil, err
	}
	t := p.Table(c.Param("id"))
	if t == nil {
		return nil, nil, store.ErrNotFound
	}
	d := &tablePage{
		Frame: b.Frame(c, "bench", t.Title), ID: t.ID, Path: project.Path(project.Tables, t.ID), Table: t, Nones: table.Nones,
		Find: c.DefaultQuery("find", c.PostForm("find")), Dependents: p.Dependents(project.Tables, t.ID), Faults: base.FaultsIn(p, project.Path(project.Tables, t.ID)),
	}
	d.rows(p.Texts[d.Path])
	if d.Changed, err = b.changedRows(c, t); err != nil {
		return p, d, err
	}
	d.Draft, err = store.PartDraft(c, b.DB, p.ID, d.Path)
	return p, d, err
}

// changedRows are the rows of a table that flows have changed.
func (b pages) changedRows(c *gin.Context, t *table.Table) ([]changedRow, error) {
	notes, err := store.ListState(c, b.DB, b.Scope, running.TableSpace(t.ID), rowsShown)
	rows := make([]changedRow, len(notes))
	for i, n := range notes {
		changed := running.ReadChanged(t, n.Key, n.Content)
		rows[i] = changedRow{Key: n.Key, Gone: changed.Deleted, Cells: make([]string, len(t.Row.Fields))}
		for j := range t.Row.Fields {
			rows[i].Cells[j] = changed.Row.Slot(j).String()
		}
		if changed.Deleted {
			for j, key := range table.KeyTexts(n.Key) {
				rows[i].Cells[t.Keys[j].Slot()] = key
			}
		}
	}
	return rows, err
}

// forgetChanged lets rows be again as the table has them: one, or all that flows have changed.
func (b pages) forgetChanged(c *gin.Context) error {
	_, d, err := b.tableOf(c)
	if err != nil {
		return err
	}
	var keys []string
	if key := c.PostForm("key"); key != "" {
		keys = append(keys, key)
	}
	if err := b.Operator(c).RevertTable(c, d.ID, d.Table.Title, keys...); err != nil {
		return err
	}
	c.Redirect(303, "/bench/tables/"+d.ID)
	return nil
}

// writtenRows are the rows of a part as they are written, with those that are at fault.
func writtenRows(path string, text []byte) []partfile.Row {
	var out []partfile.Row
	for _, n := range partfile.Parse(path, text).Root().List("rows") {
		row := partfile.Row{}
		for _, t := range n.Texts() {
			row = append(row, t.Value)
		}
		out = append(out, row)
	}
	return out
}

func (d *tablePage) rows(text string) {
	find := strings.ToLower(d.Find)
	for _, t := range partfile.Parse(d.Path, []byte(text)).Root().Map("default").Texts() {
		d.Default = append(d.Default, t.Value)
	}
	for i, written := range writtenRows(d.Path, []byte(text)) {
		row := tableRow{At: i, Cells: make([]string, len(d.Table.Columns()))}
		copy(row.Cells, written)
		if !strings.Contains(strings.ToLower(strings.Join(row.Cells, "\n")), find) {
			continue
		}
		if len(d.Rows) == rowsShown {
			d.More++
			continue
		}
		d.Rows = append(d.Rows, row)
	}
}

// IsKey says whether a column is one of the keys.
func (d *tablePage) IsKey(column string) bool { return d.Table.Row.Field(column).Required() }

func (b pages) table(c *gin.Context) error {
	_, d, err := b.tableOf(c)
	if err != nil {
		return err
	}
	if c.Query("as") == "csv" {
		c.Header("Content-Type", "text/csv; charset=utf-8")
		c.Header("Content-Disposition", fmt.Sprintf("attachment; filename=%q", d.ID+".csv"))
		return d.Table.WriteCSV(c.Writer)
	}
	tableView.Page(c, d)
	return nil
}

// setTable keeps the rows that were changed on the page, and what the table gives for other keys.
func (b pages) setTable(c *gin.Context) error {
	_, d, err := b.tableOf(c)
	if err != nil {
		return err
	}
	err = b.Save(c, d.Path, func(text []byte) (out []byte, err error) {
		if out, err = setNone(text, d.Table, c); err != nil {
			return nil, err
		}
		if out, err = setDefault(out, d, c); err != nil {
			return nil, err
		}
		for _, row := range d.Rows {
			cells := make(partfile.Row, len(row.Cells))
			for j := range cells {
				cells[j] = c.PostForm(fmt.Sprintf("r%dc%d", row.At, j))
			}
			if _, shown := c.GetPostForm(fmt.Sprintf("r%dc0", row.At)); !shown || slices.Equal(cells, row.Cells) {
				continue
			}
			if out, err = partfile.Set(out, []any{"rows", row.At}, cells); err != nil {
				return nil, err
			}
		}
		return out, nil
	})
	if err != nil {
		return err
	}
	if _, d, err = b.tableOf(c); err != nil {
		return err
	}
	d.OOB = true
	tableView.Part(c, "changed", d)
	return nil
}

func setNone(text []byte, t *table.Table, c *gin.Context) ([]byte, error) {
	none := table.None(c.PostForm("none"))
	if !slices.Contains(table.Nones, string(none)) {
		return text, nil
	}
	text, err := partfile.Set(text, []any{"none"}, strings.TrimPrefix(string(none), string(table.Fault)))
	if err != nil || none != table.Default || t.None == table.Default {
		return text, err
	}
	return partfile.Set(text, []any{"default"}, make(partfile.Row, len(t.Row.Fields)-len(t.Keys)))
}

func setDefault(text []byte, d *tablePage, c *gin.Context) ([]byte, error) {
	cells := make(partfile.Row, len(d.Default))
	for j := range cells {
		cells[j] = c.PostForm(fmt.Sprintf("d%d", j))
	}
	if _, shown := c.GetPostForm("d0"); !shown || slices.Equal([]string(cells), d.Default) {
		return text, nil
	}
	return partfile.Set(text, []any{"default"}, cells)
}

// Values are the columns that are no keys.
func (d *tablePage) Values() []string {
	var out []string
	for _, f := range d.Table.Row.Fields {
		if !f.Required() {
			out = append(out, f.Name)
		}
	}
	return out
}

// changeRows adds a row, takes one out, or takes in pasted ones.
func (b pages) changeRows(c *gin.Context) error {
	_, d, err := b.tableOf(c)
	if err != nil {
		return err
	}
	told := ""
	err = b.Save(c, d.Path, func(text []byte) ([]byte, error) {
		if at, err := strconv.Atoi(c.PostForm("remove")); err == nil {
			if at < 0 || at >= len(writtenRows(d.Path, text)) {
				return nil, store.ErrNotFound
			}
			return partfile.Remove(text, []any{"rows"}, at)
		}
		if pasted := c.PostForm("rows"); strings.TrimSpace(pasted) != "" {
			rows, added, replaced, err := d.Table.Merge(base.UnixLines(pasted))
			if err != nil {
				return nil, err
			}
			told = fmt.Sprintf("%d added, %d replaced", added, replaced)
			return partfile.Set(text, []any{"rows"}, rows)
		}
		return partfile.Set(text, []any{"rows"}, append(writtenRows(d.Path, text), make(partfile.Row, len(d.Table.Columns()))))
	})
	if err != nil {
		return err
	}
	c.Redirect(303, "/bench/tables/"+url.PathEscape(d.ID)+"?told="+url.QueryEscape(told))
	return nil
}

// addTable begins a table with its columns, as they are written in one line: class*, article, vat decimal.
func (b pages) addTable(c *gin.Context) error {
	title := strings.TrimSpace(c.PostForm("title"))
	id := design.ID(title)
	columns, err := columnsOf(c.PostForm("columns"))
	if err != nil {
		return err
	}
	if id == "" {
		return fault.New(fault.Required, "a table needs a title")
	}
	text := partfile.Encode(partfile.Ordered{{Key: "table", Value: title}, {Key: "columns", Value: columns}})
	if err := b.Designer(c).Add(c, project.Path(project.Tables, id), string(text)+"rows: []\n"); err != nil {
		return err
	}
	c.Redirect(303, "/bench/tables/"+url.PathEscape(id))
	return nil
}

func columnsOf(line string) ([]partfile.Ordered, error) {
	var out []partfile.Ordered
	keys := 0
	for part := range strings.SplitSeq(line, ",") {
		words := strings.Fields(part)
		if len(words) == 0 || len(words) > 2 {
			return nil, fault.Expect(fault.Setting, "columns with commas between, each a name and perhaps a type", fault.Quote(line))
		}
		name, key := strings.CutSuffix(words[0], "*")
		o := partfile.Ordered{{Key: "name", Value: name}}
		if len(words) == 2 {
			o.Add("type", words[1])
		}
		if key {
			keys++
			o.Add("key", "true")
		}
		out = append(out, o)
	}
	if keys == 0 {
		return nil, fault.New(fault.Required, "no column is a key").WithFix("Put * behind the name of a column by which a row is found")
	}
	return out, nil
}
