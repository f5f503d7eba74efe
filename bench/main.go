// Command bench compares Hollow Reed with hand-written Go programs that do the same job on the
// same data in the same run: reading and mapping rows to JSON, and the durable path from a file to
// PostgreSQL. What counts are the ratios.
package main

import (
	"bufio"
	"crypto/sha256"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"syscall"
	"time"
)

const (
	rowsMapped  = 1_000_000
	rowsDurable = 1_000_000
	rounds      = 7
)

func main() {
	if len(os.Args) == 4 && os.Args[1] == "baseline" {
		if err := baseline(os.Args[2], os.Args[3]); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		return
	}
	if err := bench(os.Args[1:]); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

// bench runs the parts that are named, or all.
func bench(only []string) error {
	dir, err := os.MkdirTemp("", "hollowreed-bench-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	fmt.Printf("%-34s %10s %8s %8s %8s\n", "", "rows/s", "MB/s", "µs CPU", "peak MB")
	for _, part := range []struct {
		name string
		run  func(dir string) error
	}{{"rows", rows}, {"mapped", mapped}, {"grouped", grouped}, {"checked", check}, {"durable", durable}, {"short", short}, {"call", calls}, {"pass", passes}, {"many", many}, {"channels", channels}, {"edit", edits}, {"sql", sqlBench}} {
		if len(only) > 0 && !slices.Contains(only, part.name) {
			continue
		}
		if err := part.run(dir); err != nil {
			return err
		}
	}
	return nil
}

// rows compares reading and mapping rows to JSON.
func rows(dir string) error {
	for _, kind := range []string{"fixed", "csv"} {
		file := filepath.Join(dir, "orders."+kind)
		if err := write(file, kind); err != nil {
			return err
		}
		if err := compare(kind, file); err != nil {
			return err
		}
	}
	return nil
}

func write(file, kind string) error {
	f, err := os.Create(file)
	if err != nil {
		return err
	}
	w := bufio.NewWriter(f)
	if kind == "csv" {
		fmt.Fprint(w, "no,sku,name,qty,price,discount,ordered,country,status,note\n")
	}
	for i := range rowsMapped {
		status := "open"
		if i%10 == 3 {
			status = "void"
		}
		day := fmt.Sprintf("2031%02d%02d", i%12+1, i%28+1)
		if kind == "csv" {
			fmt.Fprintf(w, "%d,SKU%05d,  kelp bale %d ,%d,%d.%02d,0.%02d,%s,no,%s,n%d\n", i, i%997, i%31, i%90+1, i%500, i%100, i%25, day, status, i)
			continue
		}
		fmt.Fprintf(w, "%08dSKU%05d%-20s%04d%06d%02d%03d%sno%-4s%-12s\n", i, i%997, fmt.Sprintf("  kelp bale %d", i%31), i%90+1, i%500, i%100, i%25, day, status, fmt.Sprintf("n%d", i))
	}
	if err := w.Flush(); err != nil {
		return err
	}
	return f.Close()
}

// measure is the best of some rounds of one program.
type measure struct {
	wall, cpu time.Duration
	peak      int64 // bytes
	sum       string
}

// pair runs two programs by turns, so that a machine whose speed varies is fair to both. It gives
// each one's best round and the median of the rounds' ratios of time, the second's to the first's.
func pair(first, second []string) (a, b measure, ratio float64, err error) {
	var ratios []float64
	for range rounds {
		x, err := once(first[0], first[1:]...)
		if err != nil {
			return a, b, 0, err
		}
		y, err := once(second[0], second[1:]...)
		if err != nil {
			return a, b, 0, err
		}
		ratios = append(ratios, y.wall.Seconds()/x.wall.Seconds())
		a, b = a.better(x), b.better(y)
	}
	slices.Sort(ratios)
	return a, b, ratios[len(ratios)/2], nil
}

// better keeps the faster of two rounds and the greater peak.
func (m measure) better(o measure) measure {
	peak := max(m.peak, o.peak)
	if m.wall == 0 || o.wall < m.wall {
		m = o
	}
	m.peak = peak
	return m
}

// once runs a command; what it writes goes to a file, so that nothing that reads it takes time beside it.
func once(name string, args ...string) (measure, error) {
	out, err := os.CreateTemp("", "bench")
	if err != nil {
		return measure{}, err
	}
	defer os.Remove(out.Name())
	defer out.Close()
	cmd := exec.Command(name, args...)
	cmd.Stdout = out
	began := time.Now()
	if err := cmd.Run(); err != nil {
		return measure{}, fmt.Errorf("%s: %w", name, err)
	}
	m := measure{wall: time.Since(began), cpu: cmd.ProcessState.UserTime() + cmd.ProcessState.SystemTime()}
	if u, ok := cmd.ProcessState.SysUsage().(*syscall.Rusage); ok {
		m.peak = u.Maxrss * 1024
	}
	if _, err := out.Seek(0, io.SeekStart); err != nil {
		return m, err
	}
	h := sha256.New()
	if _, err := io.Copy(h, out); err != nil {
		return m, err
	}
	m.sum = fmt.Sprintf("%x", h.Sum(nil))
	return m, nil
}

func compare(kind, file string) error {
	self, err := os.Executable()
	if err != nil {
		return err
	}
	info, err := os.Stat(file)
	if err != nil {
		return err
	}
	hand, ours, ratio, err := pair([]string{self, "baseline", kind, file}, []string{"bin/hollowreed", "run", "bench/orders", kind, "--input", file})
	if err != nil {
		return err
	}
	if hand.sum != ours.sum {
		return fmt.Errorf("%s: the two programs wrote different results", kind)
	}
	show(kind+" to JSON, by hand", hand, rowsMapped, info.Size())
	show(kind+" to JSON, Hollow Reed", ours, rowsMapped, info.Size())
	fmt.Printf("%-34s %10.2f times the time of the hand-written program\n", "  ratio, median of rounds", ratio)
	return nil
}

func show(what string, m measure, rows int, size int64) {
	fmt.Printf("%-34s %10s %8.0f %8.2f %8.0f\n", what, strconv.Itoa(int(float64(rows)/m.wall.Seconds())),
		float64(size)/1e6/m.wall.Seconds(), float64(m.cpu.Microseconds())/float64(rows), float64(m.peak)/1e6)
}
