package sql

import (
	"encoding/binary"
	"strings"

	"hollowreed/internal/core/value"
)

// numeric reads a number in the binary format of PostgreSQL: digits to the base of 10,000, the weight of the first,
// a sign and how many decimal places it is shown with. Not a number and the infinities cannot be read.
func numeric(b []byte) (value.Value, bool) {
	if len(b) < 8 {
		return value.Value{}, false
	}
	n, weight := int(binary.BigEndian.Uint16(b)), int(int16(binary.BigEndian.Uint16(b[2:])))
	sign, places := binary.BigEndian.Uint16(b[4:]), int(binary.BigEndian.Uint16(b[6:]))
	if sign != 0 && sign != 0x4000 || len(b) < 8+2*n {
		return value.Value{}, false
	}
	digits := b[8 : 8+2*n]
	if 4*(weight+1)+places > 17 || weight < -1 {
		return longNumeric(digits, weight, sign != 0, places)
	}
	var c int64
	for i := range weight + 1 {
		c = c*10_000 + digit(digits, i)
	}
	for left, i := places, weight+1; left > 0; i++ {
		d := digit(digits, i)
		for range 4 {
			if left == 0 {
				break
			}
			c, d, left = c*10+d/1000, d%1000*10, left-1
		}
	}
	if sign != 0 {
		c = -c
	}
	return value.NewDecimal(c, int32(-places)), true
}

func digit(digits []byte, i int) int64 {
	if 2*i >= len(digits) || i < 0 {
		return 0
	}
	return int64(binary.BigEndian.Uint16(digits[2*i:]))
}

// longNumeric is a number that does not fit 64 bits, by its text.
func longNumeric(digits []byte, weight int, negative bool, places int) (value.Value, bool) {
	var b strings.Builder
	if negative {
		b.WriteByte('-')
	}
	four := func(i int) string {
		d := digit(digits, i)
		return string([]byte{byte('0' + d/1000), byte('0' + d/100%10), byte('0' + d/10%10), byte('0' + d%10)})
	}
	whole := ""
	for i := 0; i <= weight; i++ {
		whole += four(i)
	}
	if whole = strings.TrimLeft(whole, "0"); whole == "" {
		whole = "0"
	}
	b.WriteString(whole)
	fraction := ""
	for i := weight + 1; len(fraction) < places; i++ {
		fraction += four(i)
	}
	if places > 0 {
		b.WriteString("." + fraction[:places])
	}
	return value.ParseDecimal(b.String())
}
