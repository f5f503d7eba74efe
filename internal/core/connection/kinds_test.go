package connection

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/setting"
)

// TestEveryKindIsWhole: what the table says of a kind can be shown, chosen and checked.
func TestEveryKindIsWhole(t *testing.T) {
	require.Len(t, Names(), len(Kinds))
	for _, k := range Kinds {
		require.Same(t, k, KindOf(k.Name))
		require.NotEmpty(t, k.Title, k.Name)
		require.True(t, strings.HasSuffix(k.About, ".") && strings.HasSuffix(k.Needs, "."), k.Name)
		names, labels := map[string]bool{}, map[string]bool{}
		for _, s := range k.Settings {
			require.False(t, names[s.Name] || labels[s.Label], "%s: %s is there twice", k.Name, s.Name)
			names[s.Name], labels[s.Label] = true, true
			require.True(t, s.Default == "" || s.Check(s.Default) == nil, "%s: the default of %s is one that can be chosen", k.Name, s.Name)
			require.Equal(t, s.Type == setting.Choice, len(s.Choices) > 0, "%s: %s", k.Name, s.Name)
			require.Equal(t, s.Type == setting.Secret, s.Of != "", "%s: %s", k.Name, s.Name)
			if name, values, ok := strings.Cut(s.When, "="); ok {
				at := settingOf(k, name)
				require.NotNil(t, at, "%s: %s depends on what is not there", k.Name, s.Name)
				for _, v := range strings.Split(values, "|") {
					require.Nil(t, at.Check(v), "%s: %s is asked for with %s, which %s cannot be", k.Name, s.Name, v, name)
				}
			}
		}
		verbs := map[string]bool{}
		for _, v := range k.OperationKinds {
			require.False(t, verbs[v.Name], "%s: %s is there twice", k.Name, v.Name)
			verbs[v.Name] = true
			require.NotEmpty(t, v.About, v.Name)
			require.Same(t, &k.OperationKinds[0], k.OperationKind("no such verb"))
			require.Equal(t, v.Name, k.OperationKind(v.Name).Name)
			require.False(t, v.Reads && v.Effect, "%s: what reads changes nothing", v.Name)
			for _, sch := range []*schema.Schema{v.Request, v.Response} {
				if sch != nil {
					require.NotEmpty(t, sch.Title)
					require.Equal(t, len(sch.Root.Fields), len(sch.Root.Layout().Names))
				}
			}
		}
	}
	require.Nil(t, KindOf("pigeon"))
}

func settingOf(k *Kind, name string) *setting.Setting { return k.Settings.Find(name) }

// TestEveryKindMakesAPart: a new one has no faults, and each of its verbs can be an operation of it.
func TestEveryKindMakesAPart(t *testing.T) {
	for _, k := range Kinds {
		text := string(New("A new one: "+k.Name, k))
		if len(k.OperationKinds) > 0 {
			text += "operations:\n"
		}
		for i, v := range k.OperationKinds {
			text += "  - {operation: op" + string(rune('a'+i)) + ", kind: " + v.Name
			for _, s := range v.Settings {
				if s.Required && s.Default == "" {
					text += `, "` + s.Name + `": "` + map[bool]string{true: "true", false: "x"}[s.Type == setting.Formula] + `"`
				}
			}
			text += "}\n"
		}
		d := partfile.Parse("connections/new.yaml", []byte(text))
		c := Parse("new", d)
		require.Equal(t, "A new one: "+k.Name, c.Title)
		require.Len(t, c.Operations, len(k.OperationKinds))
		for i, o := range c.Operations {
			require.Equal(t, "new", o.Connection)
			require.Same(t, &k.OperationKinds[i], o.Kind)
			for _, s := range o.Kind.Settings {
				if s.Default != "" {
					require.Equal(t, s.Default, o.Setting(s.Name), "%s: the default of %s", k.Name, s.Name)
				}
			}
		}
		require.NotContains(t, d.Faults.Error(), "unknown setting", text)
	}
}

// TestSettingsAreAskedForAsOthersAreChosen: through several, and by the defaults of what was not chosen.
func TestSettingsAreAskedForAsOthersAreChosen(t *testing.T) {
	mailbox := KindOf("mailbox")
	authority, done := *settingOf(mailbox, "authority"), *settingOf(mailbox, "done")
	require.True(t, mailbox.Settings.Applies(authority, setting.Of(nil)), "encrypted is the default")
	require.False(t, mailbox.Settings.Applies(authority, setting.Of(map[string]string{"encryption": "none"})))
	require.False(t, mailbox.Settings.Applies(done, setting.Of(nil)))
	require.True(t, mailbox.Settings.Applies(done, setting.Of(map[string]string{"after": "move"})))
	nested := &Kind{Settings: setting.List{
		{Name: "a", Type: setting.Choice, Choices: []string{"x", "y"}, Default: "x"},
		{Name: "b", Type: setting.Choice, Choices: []string{"1", "2"}, Default: "1", When: "a=y"},
		{Name: "c", When: "b=1|2"},
	}}
	require.False(t, nested.Settings.Applies(nested.Settings[2], setting.Of(nil)), "what it hangs on is not asked for")
	require.True(t, nested.Settings.Applies(nested.Settings[2], setting.Of(map[string]string{"a": "y"})))
	require.False(t, nested.Settings.Applies(nested.Settings[2], setting.Of(map[string]string{"a": "y", "b": "3"})))
	require.True(t, nested.Settings.Applies(nested.Settings[0], setting.Of(nil)))

	port := *settingOf(mailbox, "port")
	for chosen, want := range map[string]string{"143": "", "": "", "0": "expected 1 to 65535, found 0", "65536": "expected 1 to 65535", "x": "expected a whole number", "1.5": "expected a whole number"} {
		f := port.Check(chosen)
		if want == "" {
			require.Nil(t, f, chosen)
			continue
		}
		require.Contains(t, f.What(), want, chosen)
	}
	require.Contains(t, settingOf(mailbox, "host").Check("").What(), "needed")
	require.Contains(t, settingOf(mailbox, "after").Check("burn").What(), "expected one of mark as read, move, delete")
}

// TestFaultsOfAConnectionPart: each where it stands.
func TestFaultsOfAConnectionPart(t *testing.T) {
	for text, want := range map[string]string{
		"connection: A\nkind: pigeon\n": "expected a kind of system (",
		"connection: A\nkind: mail\noperations:\n  - {operation: a, kind: send}\n  - {operation: a, kind: send}\n": `the operation "a" is there twice`,
		"connection: A\nkind: mail\noperations:\n  - {operation: a, kind: fly}\n":                                  "expected one of send",
		"connection: A\nkind: http\noperations:\n  - {operation: a, kind: read}\n":                                 `"path" is missing`,
		"connection: A\nkind: http\noperations:\n  - {operation: a, kind: call, path: /a, request: nothing}\n":     `there is no schema "nothing"`,
		"connection: A\nkind: mail\nspeed: fast\n":                                                                 `unknown setting "speed"`,
	} {
		d := partfile.Parse("connections/a.yaml", []byte(text))
		c := Parse("a", d)
		c.Resolve(func(string) *schema.Schema { return nil }, formula.Env{})
		require.Contains(t, d.Faults.Error(), want, text)
	}
}

// TestOlderNamesOfOperationsAreRead: settings and choices; written they have those of today.
func TestOlderNamesOfOperationsAreRead(t *testing.T) {
	settings := 0
	for _, k := range Kinds {
		for _, v := range k.OperationKinds {
			for _, s := range v.Settings {
				for _, older := range s.Older {
					settings++
					text := []byte("connection: C\nkind: " + k.Name + "\noperations:\n  - {operation: a, kind: " + v.Name + ", " + older + ": x}\n")
					require.Equal(t, "x", Parse("c", partfile.Parse("c.yaml", text)).Operations[0].Setting(s.Name), "%s: %s", k.Name, older)
					require.Contains(t, string(partfile.Upgraded(text, Upgrade)), s.Name+": x", "%s: %s", k.Name, older)
				}
				for was, now := range s.Was {
					text := []byte("connection: C\nkind: " + k.Name + "\noperations:\n  - {operation: a, kind: " + v.Name + ", " + s.Name + ": " + was + "}\n")
					require.Equal(t, now, Parse("c", partfile.Parse("c.yaml", text)).Operations[0].Setting(s.Name))
				}
			}
		}
	}
	require.GreaterOrEqual(t, settings, 4)
}
