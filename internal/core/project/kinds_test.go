package project

import (
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestEveryKindOfPartIsComplete: each of the list has a folder, a name and a title of its own, parts in the demo that are read
// without a fault, and settings that name parts only of kinds that there are.
func TestEveryKindOfPartIsComplete(t *testing.T) {
	texts, err := Read(os.DirFS("../../../demo"))
	require.NoError(t, err)
	p := Load("demo", texts)
	folders, ones := map[string]bool{}, map[string]bool{}
	for _, k := range kinds {
		t.Run(k.folder, func(t *testing.T) {
			require.False(t, folders[k.folder] || ones[k.one], "it is there twice")
			folders[k.folder], ones[k.one] = true, true
			require.Equal(t, k.folder, FolderOf(k.one))
			require.Equal(t, k.one, OneOf(k.folder))
			require.Equal(t, k.title, TitleKey(k.folder))
			require.Equal(t, k.files, k.title == "", "what is settings has a title among them")
			kind, id, is := Kind(Path(k.folder, "x"))
			require.True(t, is)
			require.Equal(t, [2]string{k.folder, "x"}, [2]string{kind, id})
			for _, to := range k.named {
				require.NotNil(t, kindOf(to))
			}
			parts := p.Parts(k.folder)
			require.NotEmpty(t, parts, "the demo has none")
			for _, part := range parts {
				u := p.units[part.Path]
				require.Empty(t, u.faults)
				require.True(t, k.files || u.value != nil)
				require.True(t, k.files || strings.Contains(u.text, u.Title), "%s: its title is that of its text", part.Path)
				for _, r := range u.refs() {
					require.NotNil(t, kindOf(r.kind))
					require.Contains(t, texts, Path(r.kind, r.id), "%s names what there is not", part.Path)
				}
			}
		})
	}
	_, _, is := Kind("pictures/x.yaml")
	require.False(t, is)
	require.Equal(t, "pictures", FolderOf("pictures"), "a kind that there is not stays as it is called")
	require.Empty(t, TitleKey("pictures"))
}
