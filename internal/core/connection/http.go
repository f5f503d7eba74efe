package connection

import (
	"hollowreed/internal/core/setting"
	"hollowreed/internal/core/value"
)

// httpContent is an answer as bytes.
var httpContent = fixed("content", "What was downloaded",
	needed("content", value.Binary, ""), needed("size", value.Integer, "bytes"), field("type", value.Text, "media type"))

var httpKind = &Kind{
	Name: "http", Title: "HTTP",
	About: "Calls the operations of a REST or any other HTTP interface.",
	Needs: "Its address, and how it wants to be signed in to. An OpenAPI document describes its operations.",
	Settings: append(append(setting.List{
		{Name: "address", Label: "Address", Type: setting.Text, Required: true, Help: "http:// or https://, with the path that all operations begin with"},
		{Name: "sign in", Label: "Authentication", Type: setting.Choice, Choices: []string{"none", "basic", "bearer token", "key in a header", "key in the query", "oauth client credentials", "oauth consent"}, Default: "none"},
		{Name: "user", Label: "User", Type: setting.Text, Required: true, When: "sign in=basic"},
		{Name: "password", Label: "Password", Type: setting.Secret, Of: "password", Required: true, When: "sign in=basic"},
		{Name: "token", Label: "Token or key", Type: setting.Secret, Of: "token", Required: true, When: "sign in=bearer token|key in a header|key in the query"},
		{Name: "key name", Label: "Name of the key", Type: setting.Text, Required: true, When: "sign in=key in a header|key in the query", Help: "The header or the parameter in which it is sent"},
		{Name: "client", Label: "Client id", Type: setting.Text, Required: true, When: "sign in=oauth client credentials|oauth consent"},
		{Name: "client secret", Label: "Client secret", Type: setting.Secret, Of: "password", When: "sign in=oauth client credentials|oauth consent"},
		{Name: "authorize at", Label: "Authorization endpoint", Type: setting.Text, Required: true, When: "sign in=oauth consent", Help: "The page on which a person consents (RFC 6749, 3.1)"},
		{Name: "token at", Label: "Token endpoint", Type: setting.Text, Required: true, When: "sign in=oauth client credentials|oauth consent"},
		{Name: "scopes", Label: "Scopes", Type: setting.Text, When: "sign in=oauth client credentials|oauth consent", Help: "With blanks between"},
		{Name: "client as", Label: "Client authentication", Type: setting.Choice, Choices: []string{"the header", "the form"}, Default: "the header", When: "sign in=oauth client credentials|oauth consent", Help: "Some token endpoints know only one of both (RFC 6749, 2.3.1)"},
	}, encryption("")...),
		waits, largest,
		setting.Setting{Name: "tries", Rare: true, Label: "Attempts (at most)", Type: setting.Number, Default: "4", Least: 1, Greatest: 10, Help: "When the system does not answer or is busy; with growing pauses, or as long as it asks for (Retry-After)"},
		setting.Setting{Name: "rate", Rare: true, Label: "Rate limit (calls/s)", Type: setting.Number, Least: 1, Greatest: 10000, Help: "Never more than these. Default: no limit"},
		setting.Setting{Name: "at once", Rare: true, Label: "Concurrent calls", Type: setting.Number, Default: "4", Least: 1, Greatest: 64},
		setting.Setting{Name: "forwards at once", Rare: true, Label: "Concurrent calls of APIs", Type: setting.Number, Default: "256", Least: 1, Greatest: 4096, Help: "Which APIs pass through to it; others get 503"},
		setting.Setting{Name: "further addresses", Rare: true, Label: "Further addresses", Type: setting.Text, Hint: "https://other.example:8443", Help: "Of the same service, with blanks between: calls go to all by turns. One that cannot be reached is left out for 5 s, and what it was asked goes to another one where that is safe"},
	),
	OperationKinds: []OperationKind{
		{Name: "read", About: "Get an answer, or the records of all its pages", Reads: true, Settings: append(calling("GET"), paging...)},
		{Name: "download", About: "Get an answer as bytes", Response: httpContent, Settings: calling("GET")},
		{Name: "call", About: "Send something that changes the system", Effect: true, Settings: append(calling("POST"), setting.Setting{
			Name: "key", Label: "Idempotency key", Type: setting.Text, Help: "The header that tells the system when a call is sent again, as Idempotency-Key; it is the same for each try of a record",
		}, changes)},
	},
}

// calling are the settings of every call.
func calling(method string) setting.List {
	return setting.List{
		{Name: "method", Label: "Method", Type: setting.Choice, Choices: append([]string{method}, others(method)...), Default: method},
		{Name: "path", Label: "Path", Type: setting.Text, Required: true, Initial: "/", Help: "{name} stands for a field of the request"},
		{Name: "query", Label: "Query", Type: setting.Pairs, Help: "Names, each with a formula over the request's fields; what has no value is not sent"},
		{Name: "headers", Label: "Headers", Type: setting.Pairs, Help: "Names, each with a formula"},
		{Name: "body", Label: "Body", Type: setting.Formula, Help: "A formula: a record or a list is written in the body's notation, a text or bytes as they are"},
		{Name: "media", Label: "Body is sent as", Type: setting.Choice, Choices: []string{"application/json", "application/xml", "application/x-www-form-urlencoded", "multipart/form-data", "text/plain", "application/octet-stream"}, Default: "application/json"},
		{Name: "records", Label: "Records", Type: setting.Text, Help: "Where they stand in the response, for example /items. Default: the response itself"},
		{Name: "fails when", Label: "Fails when", Type: setting.OnResponse, Help: `A formula over response.status and response.body that is true for a failure, for example response.status >= 400 or response.body contains "error". Default: status 400 and above`},
		{Name: "none", Label: "404 means", Type: setting.Choice, Choices: []string{"a fault", "no answer"}, Default: "a fault"},
	}
}

func others(method string) []string {
	var list []string
	for _, m := range []string{"GET", "POST", "PUT", "PATCH", "DELETE", "HEAD"} {
		if m != method {
			list = append(list, m)
		}
	}
	return list
}

var paging = setting.List{
	{Name: "pages", Label: "Pages", Type: setting.Choice, Choices: []string{"one", "page number", "offset", "cursor", "link header", "next field"}, Default: "one", Help: "How the next page is asked for"},
	{Name: "page", Label: "Parameter", Type: setting.Text, When: "pages=page number|offset|cursor", Help: "of the query that holds page, offset or cursor"},
	{Name: "first", Label: "First page", Type: setting.Number, Default: "1", When: "pages=page number"},
	{Name: "next", Label: "Next", Type: setting.Text, When: "pages=cursor|next field", Help: "where the cursor, or the address of the next page, stands in the answer, as /next"},
	{Name: "size", Label: "Size of a page", Type: setting.Number, When: "pages=offset", Least: 1, Help: "How far the offset goes on. Default: the number of records on the page"},
}

var soapKind = &Kind{
	Name: "soap", Title: "SOAP",
	About: "Calls the operations of a SOAP 1.1 or 1.2 service.",
	Needs: "Its WSDL 1.1 document, from which the operations and their schemas are taken.",
	Settings: append(append(setting.List{
		{Name: "address", Label: "Address", Type: setting.Text, Required: true, Help: "Where the service's port is, as its WSDL names it"},
		{Name: "user", Label: "User", Type: setting.Text, Help: "for a WS-Security user name token"},
		{Name: "password", Label: "Password", Type: setting.Secret, Of: "password"},
		{Name: "digest", Label: "Password is sent as", Type: setting.Choice, Choices: []string{"digest", "text"}, Default: "digest", Help: "As a digest with nonce and time (UsernameToken Profile 1.0), or as it is"},
	}, encryption("")...), waits, largest),
	OperationKinds: []OperationKind{
		{Name: "call", About: "Call an operation of the service", Effect: true, Settings: append(soapSettings[:len(soapSettings):len(soapSettings)], changes)},
		{Name: "read", About: "Call an operation that changes nothing, and take the records of its answer", Reads: true, Settings: append(soapSettings[:len(soapSettings):len(soapSettings)],
			setting.Setting{Name: "records", Label: "Records", Type: setting.Text, Help: "Where they stand in the response, for example /berth. Default: the response itself"})},
	},
}

var soapSettings = setting.List{
	{Name: "version", Label: "SOAP version", Type: setting.Choice, Choices: []string{"1.1", "1.2"}, Default: "1.1"},
	{Name: "style", Label: "Style", Type: setting.Choice, Choices: []string{"document", "rpc"}, Default: "document", Help: "Both with literal use, as WS-I Basic Profile 1.1 wants"},
	{Name: "action", Label: "Action", Type: setting.Text},
	{Name: "request element", Older: []string{"wrapper"}, Label: "Request element", Type: setting.Text, Required: true, Help: "Its name in the body"},
	{Name: "response element", Older: []string{"answer"}, Label: "Response element", Type: setting.Text, Help: "Its name in the body of the response. Default: any"},
	{Name: "namespace", Label: "Namespace", Type: setting.Text, Required: true, Help: "of the request element"},
	{Name: "header", Label: "Header", Type: setting.Lines, Of: "xml", Help: "XML that stands in the envelope's header; {name} stands for a field of the request"},
}
