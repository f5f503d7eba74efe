package system

import (
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
)

// Document is a file that describes what a system does.
type Document struct {
	Name    string
	Content []byte
}

// Import is what documents give a connection.
type Import struct {
	Settings   map[string]string  // of the connection, as far as the documents say
	Operations []partfile.Ordered // as they stand in a connection part
	Schemas    []*schema.Schema
	Notes      []string // what could not be read
}

// Importer reads the documents that describe the operations of a kind of system.
type Importer struct {
	Document string // what it is called: "an OpenAPI document"
	Read     func(id string, documents []Document) (*Import, error)
}
