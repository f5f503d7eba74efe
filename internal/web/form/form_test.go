package form_test

import (
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"

	"github.com/gin-gonic/gin"
	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/web/form"
	"hollowreed/internal/web/page"
)

var settings = setting.List{
	{Name: "by", Label: "By", Type: setting.Choice, Choices: []string{"address", "fields"}, Default: "address"},
	{Name: "address", Label: "Address", Type: setting.Text, Required: true, When: "by=address"},
	{Name: "host name", Label: "Host", Type: setting.Text, Required: true, When: "by=fields"},
	{Name: "port", Label: "Port", Type: setting.Number, Default: "22", Least: 1, Greatest: 65535},
	{Name: "password", Label: "Password", Type: setting.Secret, Of: "password", Required: true},
	{Name: "body", Label: "Body", Type: setting.Template},
	{Name: "trusted", Label: "Trusted", Type: setting.Flag},
	{Name: "with", Label: "With", Type: setting.Pairs, Free: true},
}

func posted(fields ...string) *gin.Context {
	gin.SetMode(gin.TestMode)
	v := url.Values{}
	for i := 0; i < len(fields); i += 2 {
		v.Add(fields[i], fields[i+1])
	}
	c, _ := gin.CreateTestContext(httptest.NewRecorder())
	c.Request = httptest.NewRequest(http.MethodPost, "/", strings.NewReader(v.Encode()))
	c.Request.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	return c
}

func read(text string) setting.Values {
	return settings.Read(partfile.Parse("a.yaml", []byte(text)).Root())
}

func TestAFormIsWrittenIntoAPart(t *testing.T) {
	const text = "# a comment\naddress: old\nport: 2222\nwith:\n  a: x\nbody: b\n"
	write := func(fields ...string) string {
		out, err := form.Write(posted(fields...), []byte(text), read(text))
		require.NoError(t, err)
		return string(out)
	}
	require.Equal(t, text, write(), "what the form says nothing of stays")
	require.Equal(t, text, write("set address", " old ", "set port", "2222", "set with.name.0", "a", "set with.formula.0", "x", "set with.name.1", "", "set with.formula.1", ""))
	require.Contains(t, write("set address", "new"), "# a comment\naddress: new\nport: 2222")
	require.NotContains(t, write("set port", "22"), "port", "the default needs no line")
	require.Contains(t, write("set with.name.0", "a", "set with.formula.0", "x", "set with.name.1", "b", "set with.formula.1", "y + 1"), "with:\n  a: x\n  b: y + 1")
	require.NotContains(t, write("set with.name.0", "", "set with.formula.0", ""), "with")
	require.Contains(t, write("set with/a", "z"), "with:\n  a: z")
	require.Equal(t, " first\nsecond ", read(write("set body", " first\r\nsecond ")).Get("body"), "a template keeps its blanks")
	require.Equal(t, "true", read(write("set trusted", "true", "set trusted", "false")).Get("trusted"))
	require.NotContains(t, write("set trusted", "false"), "true")
}

func TestAFormIsCheckedAsItIsChosen(t *testing.T) {
	check := func(fields ...string) (map[string]string, []form.Field, bool) {
		list := form.Fields(settings.Chosen(nil))
		chosen, ok := form.Check(posted(fields...), settings, list, func(s setting.Setting) bool { return s.Type == setting.Secret })
		return chosen, list, ok
	}
	chosen, _, ok := check("set by", "fields", "set host name", " quay.example ", "set address", "left over", "set port", "")
	require.True(t, ok)
	require.Equal(t, map[string]string{"by": "fields", "host name": "quay.example"}, chosen, "what does not apply is left out")
	_, list, ok := check("set by", "fields", "set port", "99999")
	require.False(t, ok)
	require.Equal(t, "needed", list[2].Faults[0].What())
	require.Equal(t, "expected 1 to 65535, found 99999", list[3].Faults[0].What())
	require.Equal(t, "99999", list[3].Value, "what was typed is there to be mended")
	require.Empty(t, list[4].Faults, "a secret that comes in another way")
}

var drawn = page.Parse(form.Files, "setting.html")

// TestEveryTypeOfSettingIsDrawn: with a field of its name and a label for it, with its help and its faults, and read back as it
// was drawn.
func TestEveryTypeOfSettingIsDrawn(t *testing.T) {
	for _, typ := range []setting.Type{
		setting.Text, setting.Lines, setting.Template, setting.Number, setting.Decimal, setting.Choice, setting.Flag, setting.Secret,
		setting.Formula, setting.OnResponse, setting.Pairs, setting.Part, setting.Name, setting.Operation,
	} {
		t.Run(string(typ), func(t *testing.T) {
			f := form.Field{Setting: setting.Setting{Name: "a name", Label: "A <label>", Help: "Helps", Type: typ, When: "by=x|y", Choices: []string{"x"}}, Value: "x", Complete: "/help"}
			if typ == setting.Pairs {
				f.Free, f.Rows = true, form.Rows(nil)
			}
			r := httptest.NewRecorder()
			c, _ := gin.CreateTestContext(r)
			drawn.Part(c, "setting", map[string]any{"F": f, "Class": "field"})
			require.Equal(t, http.StatusOK, r.Code)
			html := r.Body.String()
			require.Contains(t, html, `data-when="set by=x|y"`)
			require.Contains(t, html, "A &lt;label&gt;")
			require.Contains(t, html, `id="help-a-name">Helps`)
			require.Contains(t, html, `id="note-a-name"`)
			require.Contains(t, html, `name="set a name`)
			if typ != setting.Pairs {
				require.Contains(t, html, `for="set-a-name"`)
				require.Contains(t, html, `id="set-a-name"`)
				require.Contains(t, html, `aria-describedby="help-a-name"`)
			}
			require.Equal(t, typ == setting.Formula || typ == setting.OnResponse || typ == setting.Pairs, strings.Contains(html, `data-help="/help"`))
		})
	}
}

// TestOnlyWhatAFormChangesIsSaid: of the settings that it has, those that are another by now; what is chosen as it is anyway is
// empty.
func TestOnlyWhatAFormChangesIsSaid(t *testing.T) {
	v := settings.Chosen(map[string]string{"address": "old", "port": "2222", "trusted": "true"})
	require.Empty(t, form.Changed(posted("set address", "old", "set port", "2222", "set by", "address", "set trusted", "true", "set trusted", "false"), v))
	require.Equal(t, map[string]string{"port": "", "trusted": "", "by": "fields"}, form.Changed(posted("set port", "22", "set trusted", "false", "set by", "fields"), v))
	require.Empty(t, form.Changed(posted("set trusted", "false"), settings.Chosen(nil)), "a flag that was never set is not set now")
}
