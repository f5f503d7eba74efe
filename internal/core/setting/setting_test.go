package setting_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/setting"
)

var settings = setting.List{
	{Name: "by", Label: "By", Type: setting.Choice, Choices: []string{"address", "fields"}, Default: "address"},
	{Name: "address", Label: "Address", Type: setting.Text, Required: true, When: "by=address"},
	{Name: "port", Label: "Port", Type: setting.Number, Default: "22", Least: 1, Greatest: 65535, When: "by=fields"},
	{Name: "days", Label: "Days", Type: setting.Number, Least: 1},
	{Name: "pause", Label: "Pause", Type: setting.Decimal},
	{Name: "trusted", Label: "Trusted", Type: setting.Flag},
	{Name: "with", Label: "With", Type: setting.Pairs},
	{Name: "schema", Label: "Schema", Type: setting.Part, Of: "schema"},
	{Name: "deep", Label: "Deep", Type: setting.Text, When: "port=22|23"},
}

func read(text string) (setting.Values, *partfile.Doc) {
	d := partfile.Parse("a.yaml", []byte(text))
	n := d.Root()
	v := settings.Read(n)
	n.RejectUnknown()
	return v, d
}

func TestSettingsAreReadFromAPart(t *testing.T) {
	v, d := read("by: fields\nport: 2222\npause: 1.5\ntrusted: true\nwith: {b: x + 1, a: y}\nschema: gauge\n")
	require.Empty(t, d.Faults)
	require.Equal(t, "fields", v.Get("by"))
	require.Equal(t, 2222, v.Int("port"))
	require.True(t, v.Is("trusted"))
	require.Equal(t, 2, v.Text("port").Line, "where it stands is known")
	require.Equal(t, []string{"b", "a"}, []string{v.Pairs["with"][0].Name.Value, v.Pairs["with"][1].Name.Value}, "in their order")
	require.Equal(t, []setting.Ref{{Setting: "schema", Kind: "schema", ID: "gauge"}}, v.Refs())
	bare, _ := read("address: x\n")
	require.Equal(t, "address", bare.Get("by"), "the default")
	require.Equal(t, 22, bare.Int("port"))
	require.Zero(t, bare.Int("days"))
	require.False(t, bare.Is("trusted"))
	require.Empty(t, bare.Refs())
}

func TestWhatDoesNotFitIsAFaultAtItsPlace(t *testing.T) {
	for text, want := range map[string]string{
		"by: air\n":                      `a.yaml:1:5: by: expected one of address, fields, found "air"`,
		"{}":                             `"address" is missing`,
		"address: x\nport: 0\n":          "a.yaml:2:7: port: expected 1 to 65535, found 0",
		"address: x\nport: many\n":       `a.yaml:2:7: port: expected a whole number, found "many"`,
		"address: x\ndays: 0\n":          "a.yaml:2:7: days: expected at least 1, found 0",
		"address: x\npause: -1\n":        `a.yaml:2:8: pause: expected a number that is not negative, found "-1"`,
		"address: x\npause: NaN\n":       "expected a number that is not negative",
		"address: x\npause: 1e10\n":      "expected a number that is not negative",
		"address: x\ntrusted: perhaps\n": `trusted: expected true or false, found "perhaps"`,
		"address: x\nsecret: y\n":        "secret",
	} {
		_, d := read(text)
		require.NotEmpty(t, d.Faults, text)
		require.Contains(t, d.Faults.Error(), want)
	}
	_, d := read("by: fields\n")
	require.Empty(t, d.Faults, "an address is not missing where fields are chosen")
}

func TestASettingAppliesAsOthersAreChosen(t *testing.T) {
	applies := func(name string, chosen map[string]string) bool {
		return settings.Applies(*settings.Find(name), setting.Of(chosen))
	}
	require.True(t, applies("address", nil), "by its default")
	require.False(t, applies("port", nil))
	require.True(t, applies("port", map[string]string{"by": "fields"}))
	require.False(t, applies("deep", map[string]string{"port": "22"}), "what it depends on does not apply itself")
	require.True(t, applies("deep", map[string]string{"by": "fields"}), "through the default of another")
	require.False(t, applies("deep", map[string]string{"by": "fields", "port": "24"}))
	require.Nil(t, settings.Find("nothing"))
	require.Empty(t, settings.Default("nothing"))
}
