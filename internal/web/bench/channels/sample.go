package channels

import (
	"bytes"

	"hollowreed/internal/connector/apicall"
	"hollowreed/internal/core/channel"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/all"
	"hollowreed/internal/core/value"
)

// sampleText is a message of a channel as it could be put in; empty where it cannot be written.
func sampleText(c *channel.Channel, v value.Value) string {
	var out bytes.Buffer
	w, err := all.Of(c.Schema).NewWriter(&out, notation.Options{Schema: c.Schema})
	if err == nil {
		err = w.Write(v)
	}
	if err == nil {
		err = w.Close()
	}
	if err != nil {
		return ""
	}
	return apicall.Pretty(out.Bytes())
}
