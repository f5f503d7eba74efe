// Package gauges is the stand-in for the Gauge drop: tide loggers that drop fixed-width files in
// a folder. Its page drops new files, good and bad ones.
package gauges

import (
	"context"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"strings"
	"sync"

	"hollowreed/internal/standin"
)

var stations = []string{"SK04", "LC11", "OR02", "HV07"}

// Readings makes a day's file: one reading of each gauge for every ten minutes from six o'clock.
// The same day gives the same file each time.
func Readings(day, times int) string {
	var b strings.Builder
	for i := range times {
		minute := 6*60 + 12 + i*10
		for g, code := range stations {
			level := 3000 + g*400 + int(math.Sin(float64(i+g+day*5)/2.5)*1200)
			before := 3000 + g*400 + int(math.Sin(float64(i-1+g+day*5)/2.5)*1200)
			fmt.Fprintf(&b, "%s203103%02d%02d%02d00%05d%04d%04d%s\r\n", code, day, minute/60, minute%60, level, 380+g*30, 3610-i*2-g*7, trend(level, before))
		}
	}
	return b.String()
}

func trend(level, before int) string {
	switch {
	case level > before+30:
		return "R"
	case level < before-30:
		return "F"
	}
	return "S"
}

// Spoilt is a file in which some lines cannot be read or have no station.
func Spoilt(day int) string {
	lines := strings.SplitAfter(Readings(day, 3), "\r\n")
	lines[2] = strings.Replace(lines[2], lines[2][18:23], "0X1 5", 1)
	lines[5] = lines[5][:20] + "\r\n"
	lines[7] = "ZZ99" + lines[7][4:31] + "R\r\n"
	return strings.Join(lines, "")
}

// Drop writes a file beside its name and renames it, so that nobody sees half of it.
func Drop(folder, name, content string) error {
	temp := filepath.Join(folder, "."+name+".part")
	if err := os.WriteFile(temp, []byte(content), 0o644); err != nil {
		return err
	}
	return os.Rename(temp, filepath.Join(folder, name))
}

// Standin is the Gauge drop.
var Standin = standin.Standin{
	Name: "gauge-drop", About: "a folder into which tide loggers drop files",
	Start: func(ctx context.Context, data string) (*standin.Running, error) {
		incoming, done := filepath.Join(data, "gauge-drop", "incoming"), filepath.Join(data, "gauge-drop", "done")
		for _, dir := range []string{incoming, done} {
			if err := os.MkdirAll(dir, 0o755); err != nil {
				return nil, err
			}
		}
		page, err := standin.Serve(ctx, Page(incoming, done))
		if err != nil {
			return nil, err
		}
		return &standin.Running{Page: page, Reach: map[string]standin.Reach{
			"gauge-drop": {Kind: "file", Values: map[string]string{"folder": incoming, "done": done, "after": "move"}},
		}}, nil
	},
}

// Page drops files and lists the folders.
func Page(folder, done string) func(ctx context.Context) (standin.Page, error) {
	var mu sync.Mutex
	day := 10
	drop := func(make func(day int) string) func(context.Context) (string, error) {
		return func(context.Context) (string, error) {
			mu.Lock()
			defer mu.Unlock()
			day = day%28 + 1
			name := fmt.Sprintf("sk_03%02d.tide", day)
			return "Dropped " + name, Drop(folder, name, make(day))
		}
	}
	actions := []standin.Action{
		{Name: "good", Label: "Drop a day's file", About: "48 readings", Do: drop(func(d int) string { return Readings(d, 12) })},
		{Name: "spoilt", Label: "Drop a spoilt file", About: "three of twelve lines are bad", Do: drop(Spoilt)},
		{Name: "empty", Label: "Drop an empty file", About: "0 bytes", Do: drop(func(int) string { return "" })},
		{Name: "large", Label: "Drop a large file", About: "40,000 readings", Do: drop(func(d int) string { return large(d) })},
	}
	return func(context.Context) (standin.Page, error) {
		return standin.Page{
			Title: "Gauge drop", About: "Tide loggers on the piers drop their files in " + folder, Actions: actions,
			Tables: []standin.Table{list("Waiting", folder), list("Picked up", done)},
		}, nil
	}
}

func large(day int) string {
	one := Readings(day, 12)
	return strings.Repeat(one, 40_000/strings.Count(one, "\n"))
}

func list(title, folder string) standin.Table {
	t := standin.Table{Title: title, Head: []string{"file", "bytes", "changed"}}
	entries, _ := os.ReadDir(folder)
	for i := len(entries) - 1; i >= 0 && len(t.Rows) < 40; i-- {
		if info, err := entries[i].Info(); err == nil && entries[i].Name()[0] != '.' {
			t.Rows = append(t.Rows, []string{info.Name(), fmt.Sprint(info.Size()), info.ModTime().UTC().Format("15:04:05")})
		}
	}
	return t
}
