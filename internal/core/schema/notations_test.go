package schema

// The notations that the tests of this package name; those of the product are registered by their own folders.
var (
	fixedWidth = &Notation{Name: "fixedwidth", Family: "fixedwidth", Bytes: true, Lines: true, Columns: true}
	cells      = &Notation{Name: "csv", Family: "csv", Bytes: true, Lines: true, Cells: true}
)

func init() {
	Register(fixedWidth)
	Register(cells)
	Register(&Notation{Name: "json", Family: "json", Bytes: true, Tree: true, Types: true, Document: true})
	Register(&Notation{Name: "ndjson", Family: "json", Bytes: true, Tree: true, Types: true})
	Register(&Notation{Name: "xml", Family: "xml", Bytes: true, Tree: true, Elements: true, Document: true})
}
