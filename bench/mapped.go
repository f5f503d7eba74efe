package main

import (
	"bufio"
	stdjson "encoding/json"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
)

// mappedXSLT does what the mapping xml does.
const mappedXSLT = `<xsl:stylesheet version="1.0" xmlns:xsl="http://www.w3.org/1999/XSL/Transform"><xsl:output method="xml" indent="yes"/>
<xsl:template match="/orders"><lines><xsl:for-each select="order"><line order_no="{@no}">
<item><xsl:value-of select="translate(sku, 'abcdefghijklmnopqrstuvwxyz', 'ABCDEFGHIJKLMNOPQRSTUVWXYZ')"/></item><title><xsl:value-of select="name"/></title>
<quantity><xsl:value-of select="qty"/></quantity><unit_price><xsl:value-of select="price"/></unit_price><day><xsl:value-of select="ordered"/></day>
</line></xsl:for-each></lines></xsl:template></xsl:stylesheet>`

const mappedJQ = `{order_no: .no, item: (.sku | ascii_upcase), title: .name, quantity: .qty, unit_price: .price, day: .ordered}`

// mapped compares the same mapping: NDJSON beside jq and beside structs with encoding/json, XML beside
// xsltproc.
func mapped(dir string) error {
	path := func(name string) string { return filepath.Join(dir, name) }
	if err := orders(path("orders.ndjson"), "", `{"no":%d,"sku":"sku%05d","name":"kelp bale %d","qty":%d,"price":%d.%02d,"ordered":"2031-%02d-%02d"}`+"\n", "", ""); err != nil {
		return err
	}
	xml := `<order no="%d"><sku>sku%05d</sku><name>kelp bale %d</name><qty>%d</qty><price>%d.%02d</price><ordered>2031-%02d-%02d</ordered></order>` + "\n"
	if err := orders(path("mapped.xml"), "<orders>\n", xml, "", "</orders>\n"); err != nil {
		return err
	}
	if err := os.WriteFile(path("mapped.xsl"), []byte(mappedXSLT), 0o644); err != nil {
		return err
	}
	self, err := os.Executable()
	if err != nil {
		return err
	}
	ours := func(mapping, file string) []string {
		return []string{"bin/hollowreed", "map", "bench/orders", mapping, "--input", path(file)}
	}
	if err := beside("NDJSON mapped", path("orders.ndjson"), "structs of encoding/json", []string{self, "baseline", "structs", path("orders.ndjson")}, ours("ndjson", "orders.ndjson")); err != nil {
		return err
	}
	for _, other := range []struct {
		what, file, mapping string
		args                []string
	}{
		{"NDJSON mapped", "orders.ndjson", "ndjson", []string{"jq", "-c", mappedJQ, path("orders.ndjson")}},
		{"XML mapped", "mapped.xml", "xml", []string{"xsltproc", path("mapped.xsl"), path("mapped.xml")}},
	} {
		if _, err := exec.LookPath(other.args[0]); err != nil {
			fmt.Printf("%s is not installed; %s is not compared with it\n", other.args[0], other.what)
			continue
		}
		if err := beside(other.what, path(other.file), other.args[0], other.args, ours(other.mapping, other.file)); err != nil {
			return err
		}
	}
	return nil
}

// mapStructs is the mapping as a person would write it with encoding/json.
func mapStructs(in io.Reader, out io.Writer) error {
	type order struct {
		No      int64          `json:"no"`
		SKU     string         `json:"sku"`
		Name    string         `json:"name"`
		Qty     int64          `json:"qty"`
		Price   stdjson.Number `json:"price"`
		Ordered string         `json:"ordered"`
	}
	type line struct {
		OrderNo   int64          `json:"order_no"`
		Item      string         `json:"item"`
		Title     string         `json:"title"`
		Quantity  int64          `json:"quantity"`
		UnitPrice stdjson.Number `json:"unit_price"`
		Day       string         `json:"day"`
	}
	dec := stdjson.NewDecoder(bufio.NewReaderSize(in, 64<<10))
	w := bufio.NewWriterSize(out, 64<<10)
	enc := stdjson.NewEncoder(w)
	for {
		var o order
		if err := dec.Decode(&o); err == io.EOF {
			return w.Flush()
		} else if err != nil {
			return err
		}
		if err := enc.Encode(line{OrderNo: o.No, Item: strings.ToUpper(o.SKU), Title: o.Name, Quantity: o.Qty, UnitPrice: o.Price, Day: o.Ordered}); err != nil {
			return err
		}
	}
}

// grouped shows that the time of one line does not grow with the lines of a message: they are grouped,
// sorted, nested and joined by key with as many prices.
func grouped(dir string) error {
	few, many := 5_000, 100_000
	perLine := func(n int) (measure, error) {
		file := filepath.Join(dir, fmt.Sprintf("basket-%d.json", n))
		if err := basket(file, n, many/n); err != nil {
			return measure{}, err
		}
		return once("bin/hollowreed", "map", "bench/orders", "grouped", "--to", "ndjson", "--input", file)
	}
	a, err := perLine(few)
	if err != nil {
		return err
	}
	b, err := perLine(many)
	if err != nil {
		return err
	}
	show(fmt.Sprintf("%d messages of %d lines", many/few, few), a, many, 0)
	show(fmt.Sprintf("1 message of %d lines", many), b, many, 0)
	fmt.Printf("%-40s %4.2f times the CPU for one line\n", "  ratio", b.cpu.Seconds()/a.cpu.Seconds())
	return nil
}

// basket writes messages of as many lines and prices each.
func basket(file string, lines, messages int) error {
	f, err := os.Create(file)
	if err != nil {
		return err
	}
	w := bufio.NewWriter(f)
	fmt.Fprint(w, "[")
	for m := range messages {
		if m > 0 {
			fmt.Fprint(w, ",")
		}
		fmt.Fprintf(w, `{"id":"B%d","line":[`, m)
		for i := range lines {
			fmt.Fprintf(w, `%s{"sku":"s%d","kind":"k%d","qty":%d}`, comma(i), i*7919%lines, i%97, i%9)
		}
		fmt.Fprint(w, `],"price":[`)
		for i := range lines {
			fmt.Fprintf(w, `%s{"sku":"s%d","cost":%d.%02d}`, comma(i), i, i%500, i%100)
		}
		fmt.Fprint(w, "]}\n")
	}
	fmt.Fprint(w, "]")
	if err := w.Flush(); err != nil {
		return err
	}
	return f.Close()
}

func comma(i int) string {
	if i == 0 {
		return ""
	}
	return ","
}
