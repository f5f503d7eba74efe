package project

import (
	"archive/zip"
	"bytes"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"

	"hollowreed/internal/core/fault"
)

// MaxPacked bounds a packed project, in bytes.
const MaxPacked = 64 << 20

// Pack writes the text files of a project into a ZIP archive, always the same for the same texts.
func Pack(texts map[string]string) ([]byte, error) {
	var out bytes.Buffer
	z := zip.NewWriter(&out)
	for _, path := range slices.Sorted(maps.Keys(texts)) {
		w, err := z.CreateHeader(&zip.FileHeader{Name: path, Method: zip.Deflate})
		if err != nil {
			return nil, err
		}
		if _, err := w.Write([]byte(texts[path])); err != nil {
			return nil, err
		}
	}
	err := z.Close()
	return out.Bytes(), err
}

// Unpack reads the text files of a project from a ZIP archive: from its top, or from the one folder that stands there.
func Unpack(content []byte) (map[string]string, error) {
	z, err := zip.NewReader(bytes.NewReader(content), int64(len(content)))
	if err != nil {
		return nil, fault.New(fault.Syntax, "the file is no ZIP archive: %s", err)
	}
	var dir fs.FS = z
	if _, err := fs.Stat(z, File); err != nil {
		if top, err := fs.ReadDir(z, "."); err == nil && len(top) == 1 && top[0].IsDir() {
			if dir, err = fs.Sub(z, top[0].Name()); err != nil {
				return nil, err
			}
		}
	}
	return Read(dir)
}

// Write puts the text files of a project into a folder. What stands there already is replaced; files that are no parts stay,
// and parts that the project does not have are removed.
func Write(folder string, texts map[string]string) error {
	old, err := Read(os.DirFS(folder))
	if err != nil && !os.IsNotExist(err) && len(old) > 0 { // without a project file it is a new folder
		return err
	}
	for path := range old {
		if _, there := texts[path]; !there {
			if err := os.Remove(filepath.Join(folder, filepath.FromSlash(path))); err != nil {
				return err
			}
		}
	}
	for path, text := range texts {
		to := filepath.Join(folder, filepath.FromSlash(path))
		if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(to, []byte(text), 0o644); err != nil {
			return err
		}
	}
	return nil
}
