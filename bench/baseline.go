package main

import (
	"bufio"
	"encoding/csv"
	"encoding/json"
	"io"
	"os"
	"strconv"
	"strings"
)

// The baselines are what one would write by hand for just this job: read ten-field orders, drop
// the void ones, rename and reorder eight fields, trim, upper-case, an exact product in integers,
// the date in another form; write one JSON value a line. They check nothing beyond what the job needs.

func handCSV(in io.Reader, out io.Writer) error {
	r := csv.NewReader(bufio.NewReaderSize(in, 1<<16))
	r.ReuseRecord = true
	if _, err := r.Read(); err != nil {
		return err
	}
	w := bufio.NewWriterSize(out, 1<<16)
	var b []byte
	for {
		rec, err := r.Read()
		if err == io.EOF {
			return w.Flush()
		}
		if err != nil {
			return err
		}
		if rec[8] == "void" {
			continue
		}
		price := strings.Replace(rec[4], ".", "", 1)
		discount := strings.Replace(rec[5], ".", "", 1)
		if b, err = line(b[:0], rec[1], rec[2], rec[3], price, discount, rec[6], rec[7], rec[0]); err != nil {
			return err
		}
		w.Write(b)
	}
}

func handFixed(in io.Reader, out io.Writer) error {
	s := bufio.NewScanner(in)
	w := bufio.NewWriterSize(out, 1<<16)
	var b []byte
	for s.Scan() {
		l := s.Text()
		status := strings.TrimRight(l[61:65], " ")
		if status == "void" {
			continue
		}
		var err error
		if b, err = line(b[:0], strings.TrimRight(l[8:16], " "), l[16:36], l[36:40], l[40:48], l[48:51], l[51:59], l[59:61], l[0:8]); err != nil {
			return err
		}
		w.Write(b)
	}
	if err := s.Err(); err != nil {
		return err
	}
	return w.Flush()
}

// line writes one result; price and discount are in hundredths.
func line(b []byte, sku, name, qty, price, discount, ordered, country, no string) ([]byte, error) {
	q, err := strconv.ParseInt(qty, 10, 64)
	if err != nil {
		return b, err
	}
	p, err := strconv.ParseInt(price, 10, 64)
	if err != nil {
		return b, err
	}
	d, err := strconv.ParseInt(discount, 10, 64)
	if err != nil {
		return b, err
	}
	n, err := strconv.ParseInt(no, 10, 64)
	if err != nil {
		return b, err
	}
	amount := q * p * (100 - d)
	b = append(b, `{"item":`...)
	b = quote(b, sku)
	b = append(b, `,"title":`...)
	b = quote(b, strings.TrimSpace(name))
	b = append(b, `,"amount":`...)
	b = fraction(b, amount, 10000, 4)
	b = append(b, `,"quantity":`...)
	b = strconv.AppendInt(b, q, 10)
	b = append(b, `,"unit_price":`...)
	b = fraction(b, p, 100, 2)
	b = append(b, `,"date":"`...)
	b = append(b, ordered[:4]...)
	b = append(b, '-')
	b = append(b, ordered[4:6]...)
	b = append(b, '-')
	b = append(b, ordered[6:8]...)
	b = append(b, `","land":`...)
	b = quote(b, strings.ToUpper(country))
	b = append(b, `,"order_no":`...)
	b = strconv.AppendInt(b, n, 10)
	return append(b, "}\n"...), nil
}

func fraction(b []byte, n, unit int64, places int) []byte {
	b = strconv.AppendInt(b, n/unit, 10)
	b = append(b, '.')
	f := strconv.FormatInt(n%unit, 10)
	for i := len(f); i < places; i++ {
		b = append(b, '0')
	}
	return append(b, f...)
}

func quote(b []byte, s string) []byte {
	for i := 0; i < len(s); i++ {
		if s[i] < ' ' || s[i] == '"' || s[i] == '\\' || s[i] >= 0x80 {
			q, _ := json.Marshal(s)
			return append(b, q...)
		}
	}
	return append(append(append(b, '"'), s...), '"')
}

// baseline runs a hand-written program over a file, as a process of its own.
func baseline(which, file string) error {
	in, err := os.Open(file)
	if err != nil {
		return err
	}
	defer in.Close()
	return map[string]func(io.Reader, io.Writer) error{"csv": handCSV, "fixed": handFixed, "json": decodeJSON, "structs": mapStructs}[which](in, os.Stdout)
}
