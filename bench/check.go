package main

import (
	"bufio"
	stdjson "encoding/json"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
)

const rowsChecked = 200_000

const checkedXSD = `<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema"><xs:element name="orders"><xs:complexType><xs:sequence>
<xs:element name="order" maxOccurs="unbounded"><xs:complexType><xs:sequence>
<xs:element name="sku"><xs:simpleType><xs:restriction base="xs:string"><xs:pattern value="SKU[0-9]{5}"/></xs:restriction></xs:simpleType></xs:element>
<xs:element name="name" type="xs:string"/><xs:element name="qty" type="xs:positiveInteger"/>
<xs:element name="price"><xs:simpleType><xs:restriction base="xs:decimal"><xs:minInclusive value="0"/><xs:fractionDigits value="2"/></xs:restriction></xs:simpleType></xs:element>
<xs:element name="ordered" type="xs:date"/>
<xs:element name="status"><xs:simpleType><xs:restriction base="xs:string"><xs:enumeration value="open"/><xs:enumeration value="void"/></xs:restriction></xs:simpleType></xs:element>
</xs:sequence><xs:attribute name="no" type="xs:nonNegativeInteger" use="required"/></xs:complexType></xs:element>
</xs:sequence></xs:complexType></xs:element></xs:schema>`

const checkedPart = `schema: Order
notation: json
fields:
  - {name: no, type: integer, constraints: {minimum: 0}}
  - {name: sku, type: text, constraints: {pattern: "SKU[0-9]{5}"}}
  - {name: name, type: text}
  - {name: qty, type: integer, constraints: {minimum: 1}}
  - {name: price, type: decimal, constraints: {minimum: 0, fraction digits: 2}}
  - {name: ordered, type: date}
  - {name: status, type: text, constraints: {codes: {open: "", void: ""}}}
`

// check compares checking while reading: XML beside xmllint, JSON beside decoding with encoding/json.
func check(dir string) error {
	path := func(name string) string { return filepath.Join(dir, name) }
	for name, text := range map[string]string{"orders.xsd": checkedXSD, "orders.yaml": checkedPart} {
		if err := os.WriteFile(path(name), []byte(text), 0o644); err != nil {
			return err
		}
	}
	xml := `<order no="%d"><sku>SKU%05d</sku><name>kelp bale %d</name><qty>%d</qty><price>%d.%02d</price><ordered>2031-%02d-%02d</ordered><status>open</status></order>` + "\n"
	if err := orders(path("orders.xml"), "<orders>\n", xml, "", "</orders>\n"); err != nil {
		return err
	}
	json := `{"no":%d,"sku":"SKU%05d","name":"kelp bale %d","qty":%d,"price":%d.%02d,"ordered":"2031-%02d-%02d","status":"open"}`
	if err := orders(path("orders.json"), "[\n", json, ",\n", "]\n"); err != nil {
		return err
	}
	self, err := os.Executable()
	if err != nil {
		return err
	}
	ours := []string{"bin/hollowreed", "validate", "--schema"}
	if _, err := exec.LookPath("xmllint"); err == nil {
		err := beside("XML checked", path("orders.xml"), "xmllint",
			[]string{"xmllint", "--stream", "--noout", "--nonet", "--schema", path("orders.xsd"), path("orders.xml")},
			append(ours[:3:3], path("orders.xsd"), path("orders.xml")))
		if err != nil {
			return err
		}
	} else {
		fmt.Println("xmllint is not installed; XML is not compared")
	}
	return beside("JSON checked", path("orders.json"), "decoded by encoding/json",
		[]string{self, "baseline", "json", path("orders.json")}, append(ours[:3:3], path("orders.yaml"), path("orders.json")))
}

func beside(what, file, other string, theirs, ours []string) error {
	info, err := os.Stat(file)
	if err != nil {
		return err
	}
	a, b, ratio, err := pair(theirs, ours)
	if err != nil {
		return err
	}
	show(what+", "+other, a, rowsChecked, info.Size())
	show(what+", Hollow Reed", b, rowsChecked, info.Size())
	fmt.Printf("%-40s %4.2f times the time\n", "  ratio, median of rounds", ratio)
	return nil
}

// orders writes a file of made-up orders.
func orders(file, begin, row, between, end string) error {
	f, err := os.Create(file)
	if err != nil {
		return err
	}
	w := bufio.NewWriter(f)
	fmt.Fprint(w, begin)
	for i := range rowsChecked {
		if i > 0 {
			fmt.Fprint(w, between)
		}
		fmt.Fprintf(w, row, i, i%997, i%31, i%90+1, i%500, i%100, i%12+1, i%28+1)
	}
	fmt.Fprint(w, end)
	if err := w.Flush(); err != nil {
		return err
	}
	return f.Close()
}

// decodeJSON is plain decoding of a list, an item at a time, with nothing checked.
func decodeJSON(in io.Reader, _ io.Writer) error {
	dec := stdjson.NewDecoder(bufio.NewReaderSize(in, 64<<10))
	if _, err := dec.Token(); err != nil {
		return err
	}
	for dec.More() {
		var v any
		if err := dec.Decode(&v); err != nil {
			return err
		}
	}
	return nil
}
