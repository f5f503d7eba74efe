package apicall

import (
	"fmt"
	"strings"

	"hollowreed/internal/core/contract"
	"hollowreed/internal/core/schema"
)

// TypeOf is the type of a parameter in words.
func TypeOf(k *contract.Contract, p *contract.Parameter) string {
	d, err := k.Schema(p.Schema)
	if err != nil || d == nil {
		return "text"
	}
	f := d.Schema.Root
	switch {
	case d.Schema.Message.List():
		return "list of " + f.Kind.String()
	case f.Scalar() && len(f.Constraints.Codes) > 0:
		return codesOf(f.Constraints.Codes)
	case f.Scalar() && f.Constraints.Pattern != nil:
		return f.DescribeWireFormat() + " like " + f.Constraints.Pattern.String()
	case f.Scalar():
		return f.DescribeWireFormat()
	}
	return f.Kind.String()
}

// mostCodes is how many codes are listed.
const mostCodes = 4

func codesOf(codes []schema.Code) string {
	var list []string
	for i, c := range codes {
		if i == mostCodes {
			return fmt.Sprintf("one of %d: %s, …", len(codes), strings.Join(list, ", "))
		}
		list = append(list, c.Value)
	}
	return "one of " + strings.Join(list, ", ")
}
