package validate

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation/all"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
)

const library = `schema: Library
notation: %
keys:
  song: songs/song by id
  code: songs/song by code if present
  played: plays/play by song, "by" among songs/song by id, "by"
fields:
  - name: songs
    type: record
    fields:
      - name: song
        type: record
        occurs: 0..n
        fields:
          - {name: id, type: integer}
          - {name: by, type: text}
          - {name: code, type: text, occurs: 0..1}
  - name: plays
    type: record
    fields:
      - name: play
        type: record
        occurs: 0..n
        fields: [{name: song, type: decimal}, {name: by, type: text}]
`

func keyed(t *testing.T, text string) *schema.Schema {
	t.Helper()
	d := partfile.Parse("x.yaml", []byte(text))
	s := schema.Parse("x", d)
	require.Empty(t, d.Faults)
	return s
}

func faultsOf(t *testing.T, s *schema.Schema, in string) (found []string) {
	t.Helper()
	_, err := File(s, "x.yaml", all.Of(s), "in", strings.NewReader(in), func(f *fault.Fault) bool {
		found = append(found, f.Error())
		return true
	})
	require.NoError(t, err)
	return found
}

// Keys are checked in all notations, with the place of the entry that breaks them; numbers are equal by value.
func TestKeysAreChecked(t *testing.T) {
	json := keyed(t, strings.Replace(library, "%", "json", 1))
	assert.Empty(t, faultsOf(t, json, `{"songs":{"song":[{"id":1,"by":"a"},{"id":2,"by":"a","code":"x"}]},"plays":{"play":[{"song":1.0,"by":"a"},{"song":2,"by":"a"},{"song":2,"by":"a"}]}}`))
	assert.Equal(t, []string{
		`in:3:1 /songs/song/1: expected values of song that differ, found "1" again`,
		`in:4:1 /songs/song/2: expected values of code that differ, found "x" again`,
		`in:6:2 /plays/play/0: expected one of songs/song by id, "by", found "1", "b"`,
	}, faultsOf(t, json, `{"songs":{"song":[
{"id":1,"by":"a","code":"x"},
{"id":1,"by":"c"},
{"id":2,"by":"a","code":"x"}
]},"plays":{"play":[
 {"song":1,"by":"b"}]}}`))

	xml := keyed(t, strings.Replace(library, "%", "xml", 1))
	assert.Equal(t, []string{`in:3:1 /x/songs/song: expected values of song that differ, found "1" again`}, faultsOf(t, xml, `<x><songs>
<song><id>1</id><by>a</by></song>
<song><id>01</id><by>a</by></song>
</songs><plays/></x>`))
}

// A key that cannot be is a fault at its place in the part.
func TestAKeyThatCannotBeIsTold(t *testing.T) {
	for text, want := range map[string]string{
		"songs/song":            `expected "by" and the values that tell the entries apart in the key, found ""`,
		"songs/song by":         `expected the name of a field in the key, found ""`,
		"songs/sing by id":      `the key names "sing", which is no field of songs`,
		"songs/song by nothing": `the key names "nothing", which is no field of song`,
		"songs by song":         `expected a single value to tell entries by, found a record, song`,
		"songs/song by id if":   `expected present in the key, found ""`,
		"songs/song by id, by among plays/play by song":   `expected the name of a field in the key, found "by"`,
		`songs/song by id, "by" among plays/play by song`: `expected 2 values behind among, found 1 value`,
		"songs/song by id and code":                       `expected the end in the key, found "and code"`,
	} {
		d := partfile.Parse("x.yaml", []byte(strings.Replace(strings.Replace(library, "%", "json", 1), "songs/song by code if present", text, 1)))
		schema.Parse("x", d)
		if assert.Len(t, d.Faults, 1, text) {
			assert.Contains(t, d.Faults[0].Error(), want)
		}
	}
}

// A part with keys is written as it was read.
func TestKeysAreWritten(t *testing.T) {
	s := keyed(t, strings.Replace(library, "%", "json", 1))
	again := keyed(t, string(schema.Write(s)))
	require.Len(t, again.Root.Keys(), 3)
	for i, k := range s.Root.Keys() {
		assert.Equal(t, k.Text(), again.Root.Keys()[i].Text())
	}
}
