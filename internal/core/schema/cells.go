package schema

import "unicode/utf8"

// Cells are the columns of a line of a fixed-width schema as they are counted: one for each character, or, where bytes are
// counted, as many as the character has bytes in UTF-8. The first of them holds the character, the others are empty.
func (s *Schema) Cells(text string) []string {
	cells := make([]string, 0, len(text))
	for _, r := range text {
		cells = append(cells, string(r))
		if s.Settings.Encoding != "UTF-8" || s.Settings.Characters {
			continue
		}
		for range utf8.RuneLen(r) - 1 {
			cells = append(cells, "")
		}
	}
	return cells
}
