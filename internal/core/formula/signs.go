package formula

// Sign is a part of formulas that is no function: an operator, a condition, or a value written out.
type Sign struct {
	Form, About string
	Examples    []Example
}

// Signs are those of the language, as the reference lists them; those that bind closer come first.
var Signs = []Sign{
	{`"kelp", 'kelp'`, "A text. In it \\\" stands for the quote, \\n for a new line, \\\\ for the backslash.", []Example{{`'SK ' + "04"`, "SK 04"}}},
	{`12, 1.50, true, false, nil`, "Numbers, the two truth values, and null. A decimal keeps its places.", []Example{{`1.50 * 2`, "3.00"}}},
	{`[a, b]`, "A list. list[0] is its first item, list[-1] its last.", []Example{{`[7, 8, 9][-1]`, "9"}}},
	{`record.field`, "A field of a record. Names that are no plain words stand in brackets: record[\"a b\"].", []Example{{`record("a b", 1)["a b"]`, "1"}}},
	{`#, .field`, "The item at hand, and its field, in a formula for every item of a list.", []Example{{`sum([1, 2], # * 10)`, "30"}}},
	{`a * b, a / b, a % b`, "Product, quotient and remainder of numbers. Decimals are exact.", []Example{{`7 / 2`, "3.5"}, {`7 % 2`, "1"}}},
	{`a + b, a - b`, "Sum and difference of numbers; + joins texts.", []Example{{`1 + 2.5`, "3.5"}, {`"SK" + text(4)`, "SK4"}}},
	{`a == b, a != b`, "Whether two values of one type are equal, or not.", []Example{{`1.50 == 1.5`, "true"}}},
	{`a < b, a <= b, a > b, a >= b`, "Which of two numbers, texts, dates or times comes first.", []Example{{`date("2031-03-09") < date("2031-03-10")`, "true"}}},
	{`a in list`, "Whether a value stands in a list; not in is the opposite.", []Example{{`"CAR" in ["CAR", "LOR"]`, "true"}}},
	{`a contains b, a startsWith b, a endsWith b`, "What a text has in it, begins with, ends with.", []Example{{`"LS204" startsWith "LS"`, "true"}}},
	{`a matches pattern`, "Whether a regular expression (RE2) is found in a text; the pattern is a constant.", []Example{{`"SK04" matches "^SK[0-9]+$"`, "true"}}},
	{`not a`, "The opposite of a truth value; also !a.", []Example{{`not (1 > 2)`, "true"}}},
	{`a and b, a or b`, "Whether both are true, or at least one; also a && b, a || b. The second is worked out only where it matters.", []Example{{`1 < 2 and 2 < 3`, "true"}}},
	{`a ?? b`, "A value, or another where it is absent or null.", []Example{{`nil ?? "none"`, "none"}}},
	{`condition ? a : b`, "One of two values. Conditions can follow one another: c1 ? a : c2 ? b : d.", []Example{{`1 > 2 ? "more" : "less"`, "less"}}},
	{`let name = a; b`, "A value that is named once and used in what follows.", []Example{{`let net = 100; net + net / 4`, "125"}}},
}
