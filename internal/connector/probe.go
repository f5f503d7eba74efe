package connector

import (
	"context"
	"fmt"
	"os"

	"hollowreed/internal/connector/probe"
	"hollowreed/internal/connector/sql"
)

// Probe tries a connection of a kind stage by stage.
func (p *Pool) Probe(ctx context.Context, kind, id string) *probe.Run {
	s := p.settings[id]
	r := &probe.Run{}
	switch {
	case kind == "sql" && s.URL != "":
		return sql.Probe(ctx, s.URL)
	case kind == "file" && s.Folder != "":
		folder(r, s.Folder, s.Done)
	default:
		r.Do("settings found", func() (string, error) {
			return "", fmt.Errorf("the connection has no settings in this environment")
		}, func(error) string { return "Add " + id + " to the environment's settings file" })
	}
	return r
}

// folder tries a watched folder and the one into which its files go.
func folder(r *probe.Run, path, done string) {
	r.Do("folder found", func() (string, error) {
		info, err := os.Stat(path)
		switch {
		case err != nil:
			return "there is no folder " + path, err
		case !info.IsDir():
			return path + " is a file", fmt.Errorf("not a folder")
		}
		return path, nil
	}, func(error) string { return "Make the folder, or mend its path" })
	r.Do("permission to read", func() (string, error) {
		list, err := os.ReadDir(path)
		return fmt.Sprintf("%d files and folders in it", len(list)), err
	}, func(error) string { return "Let the user of this program read the folder" })
	for _, dir := range []string{path, done} {
		if dir == "" {
			continue
		}
		r.Do("permission to write", func() (string, error) {
			f, err := os.CreateTemp(dir, ".hollowreed-*")
			if err != nil {
				return "nothing can be written in " + dir, err
			}
			f.Close()
			return dir, os.Remove(f.Name())
		}, func(error) string { return "Let the user of this program write there" })
	}
}
