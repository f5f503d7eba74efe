package all

import (
	"bytes"
	"io"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/core/value"
)

// TestEveryNotationIsComplete: each one of the list says all that is asked of a notation, and what it writes it reads.
func TestEveryNotationIsComplete(t *testing.T) {
	names, media := map[string]bool{}, map[string]bool{}
	for _, k := range Kinds {
		t.Run(k.Name, func(t *testing.T) {
			require.NotEmpty(t, k.About)
			require.NotEmpty(t, k.Ending)
			require.NotEmpty(t, k.Family)
			require.Contains(t, k.Media, "/")
			require.False(t, names[k.Name] || media[k.Media], "it is there twice")
			names[k.Name], media[k.Media] = true, true
			require.True(t, k.Bytes)
			require.True(t, k.Lines != k.Tree, "its records are lines, or hold others")
			require.Equal(t, k.Lines, k.Columns != k.Cells, "a line has columns or cells")
			require.True(t, k.Lines || k.Recognise != nil, "it is recognised by its beginning, or by its lines")
			require.True(t, k.Excerpt.Raw != (k.Excerpt.Text != nil), "the text of a record comes with it, or is found in its message")
			require.Equal(t, k.Excerpt.Framed == nil, k.Excerpt.Frame == nil)

			found, err := Named(k.Name)
			require.NoError(t, err)
			require.Same(t, k, found)
			found, ok := OfMedia(k.Media)
			require.True(t, ok)
			require.Same(t, k, found)

			settingsAreComplete(t, k.Settings)
			require.NotEmpty(t, k.Settings)
			for kind := value.Text; kind <= value.RecordKind; kind++ {
				f := schema.Scalar("f", kind)
				settingsAreComplete(t, (&schema.Schema{Notation: k.Notation, Root: schema.Record("r", f)}).FieldSettings(f))
			}

			s := parse(t, "berth", "schema: Berth\nnotation: "+k.Name+"\nnotation settings: {root: berths, record: berth}\nfields:\n"+
				"  - {name: code, type: text, columns: 1-4}\n  - {name: length, type: integer, columns: 5-9}\n")
			require.Same(t, k, Of(s))
			record := value.NewRecord(s.Root.Layout(), []value.Value{value.NewText("LS01"), value.Int(180)})
			var text bytes.Buffer
			w, err := k.NewWriter(&text, notation.Options{Schema: s, Many: true})
			require.NoError(t, err)
			require.NoError(t, w.Write(record))
			require.NoError(t, w.Write(record))
			require.NoError(t, w.Close())
			if k.Recognise != nil {
				require.True(t, k.Recognise(text.Bytes()), text.String())
			}
			r, err := k.NewReader(&text, notation.Options{Schema: s, Check: true})
			require.NoError(t, err)
			for range 2 {
				v, err := r.Next()
				require.NoError(t, err)
				require.True(t, value.Equal(record, v))
				require.Equal(t, k.Excerpt.Raw, r.Raw() != "")
			}
			_, err = r.Next()
			require.ErrorIs(t, err, io.EOF)
		})
	}
}

// settingsAreComplete holds settings against what a form and a reader need of them.
func settingsAreComplete(t *testing.T, list setting.List) {
	t.Helper()
	names := map[string]bool{}
	for _, s := range list {
		require.False(t, names[s.Name], "%s is there twice", s.Name)
		names[s.Name] = true
		require.NotEmpty(t, s.Label, s.Name)
		require.Equal(t, s.Type == setting.Choice, len(s.Choices) > 0, s.Name)
		require.Nil(t, s.Check(s.Default), "the default of %s can be chosen", s.Name)
	}
}

// TestRowsHaveNoBytes: rows of a database are written as lines of JSON where they must be bytes, and read from a file by the
// ending of its name.
func TestRowsHaveNoBytes(t *testing.T) {
	rows := parse(t, "berth", "schema: Berth\nnotation: rows\nfields:\n  - {name: code, type: text}\n")
	require.Same(t, schema.Rows, rows.Notation)
	require.Same(t, &json.LinesKind, Of(rows))
	k, err := OfFile("berths.json", rows)
	require.NoError(t, err)
	require.Same(t, &json.Kind, k)
	_, err = OfFile("berths.pdf", rows)
	require.ErrorContains(t, err, `expected one of `+strings.Join(Names(), ", ")+`, found "pdf"`)
	for media, want := range map[string]*notation.Kind{
		"application/problem+json": &json.Kind, "text/json": &json.Kind, "application/x-ndjson": &json.LinesKind, "text/html": nil, "": nil,
	} {
		got, ok := OfMedia(media)
		require.Equal(t, want != nil, ok, media)
		require.True(t, got == want, media)
	}
}
