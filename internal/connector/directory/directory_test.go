package directory

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/go-ldap/ldap/v3"
	"github.com/stretchr/testify/require"

	"hollowreed/internal/connector/contract"
	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
	"hollowreed/internal/standin"
	"hollowreed/internal/standin/crewroll"
)

const part = `
connection: Crewroll
kind: directory
operations:
  - {operation: people, kind: search, filter: '(&(objectClass=inetOrgPerson)(cn=*))', response: person, page size: 2, below: ou=people}
  - {operation: by-badge, kind: look up, request: badge, response: person, filter: '(employeeNumber={badge})'}
  - {operation: hire, kind: add, request: person}
  - {operation: promote, kind: change, request: promotion}
  - {operation: leave, kind: delete}
  - {operation: same, kind: compare}
  - {operation: watch, kind: members}
`

func schemas(t *testing.T) []*schema.Schema {
	return []*schema.Schema{
		contract.Schema(t, "person", "schema: Person\nnotation: json\nfields:\n  - {name: dn, type: text}\n  - {name: cn, type: text}\n  - {name: sn, type: text}\n  - {name: employeeNumber, type: integer, occurs: 0..1}\n  - {name: telephoneNumber, type: text, occurs: 0..n}\n  - {name: objectClass, type: text, occurs: 0..n}\n"),
		contract.Schema(t, "badge", "schema: Badge\nnotation: json\nfields:\n  - {name: badge, type: text}\n"),
		contract.Schema(t, "promotion", "schema: Promotion\nnotation: json\nfields:\n  - {name: dn, type: text}\n  - {name: title, type: text, occurs: 0..1, nullable: true}\n"),
	}
}

func open(t *testing.T, values map[string]string) *Directory {
	t.Helper()
	s, err := Open(contract.Env("directory", values))
	require.NoError(t, err)
	t.Cleanup(s.Close)
	return s.(*Directory)
}

// contractOf is what every directory must keep, a stand-in and a real server alike.
func contractOf(t *testing.T, d *Directory, c *connection.Connection, people int) {
	well, told := contract.Probe(t, d)
	require.True(t, well, told)
	require.NoError(t, d.Check(t.Context()))
	all := contract.All(t, d, contract.Request(t, c, "people", ""))
	require.Len(t, all, people, "all pages were read")
	one, err := d.Call(t.Context(), contract.Request(t, c, "by-badge", `{"badge": "4118"}`))
	require.NoError(t, err)
	require.Equal(t, "Jon Haar", one.Field("cn").String())
	require.Equal(t, value.Integer, one.Field("employeeNumber").Kind())
	none, err := d.Call(t.Context(), contract.Request(t, c, "by-badge", `{"badge": "*)(cn=*"}`))
	require.NoError(t, err, "what stands in a filter is escaped")
	require.Equal(t, value.Absent, none.Kind())

	base := d.env.Values["base"]
	hire := `{"dn": "uid=nye,ou=people,` + base + `", "cn": "Nye Sund", "sn": "Sund", "employeeNumber": 4130, "telephoneNumber": ["1", "2"], "objectClass": ["person", "organizationalPerson", "inetOrgPerson"]}`
	_, err = d.Call(t.Context(), contract.Request(t, c, "hire", hire))
	require.NoError(t, err)
	var f *fault.Fault
	_, err = d.Call(t.Context(), contract.Request(t, c, "hire", hire))
	require.ErrorAs(t, err, &f)
	require.Contains(t, f.What(), "Entry Already Exists")
	_, err = d.Call(t.Context(), contract.Request(t, c, "promote", `{"dn": "uid=nye,ou=people,`+base+`", "title": "mate"}`))
	require.NoError(t, err)
	one, err = d.Call(t.Context(), contract.Request(t, c, "by-badge", `{"badge": "4130"}`))
	require.NoError(t, err)
	require.Len(t, one.Field("telephoneNumber").Items(), 2)
	var members []string
	for _, m := range contract.All(t, d, contract.Request(t, c, "watch", `{"dn": "cn=watch,ou=groups,`+base+`"}`)) {
		members = append(members, m.Field("dn").String())
	}
	require.Len(t, members, 3)
	_, err = d.Call(t.Context(), contract.Request(t, c, "leave", `{"dn": "uid=nye,ou=people,`+base+`"}`))
	require.NoError(t, err)
	_, err = d.Call(t.Context(), contract.Request(t, c, "leave", `{"dn": "uid=nye,ou=people,`+base+`"}`))
	require.ErrorAs(t, err, &f)
	require.Equal(t, fault.NotFound, f.Code)
	list, err := d.Catalogue(t.Context(), "haar")
	require.NoError(t, err)
	require.Len(t, list, 1)
}

func TestTheStandIn(t *testing.T) {
	r := crewroll.New()
	port, authority, err := r.Serve(t.Context())
	require.NoError(t, err)
	values := crewroll.Settings(port, authority)
	values["timeout"] = "2"
	c := contract.Part(t, part, schemas(t)...)
	d := open(t, values)
	contractOf(t, d, c, 5)

	for name, change := range map[string]struct{ name, to, stage string }{
		"password": {"password", "wrong-word", "signed in: the directory does not take the sign-in"}, "authority": {"authority", "", "encryption agreed: the certificate is not of an authority"},
		"base": {"base", "dc=nowhere", "permission to read: expected the entry"},
	} {
		was := values[change.name]
		values[change.name] = change.to
		well, told := contract.Probe(t, open(t, values))
		require.False(t, well, name)
		require.Contains(t, told, change.stage)
		require.NotContains(t, told, "wrong-word")
		values[change.name] = was
	}
	r.Moods.TakeDown(2 * time.Second)
	require.Error(t, d.Check(t.Context()))
	require.Eventually(t, func() bool { return d.Check(t.Context()) == nil }, 10*time.Second, 50*time.Millisecond, "it is reached again when it is back")
	for _, mood := range []string{standin.Drop, standin.Refuse, standin.Wrong} {
		r.Moods.Reset()
		d = open(t, values)
		r.Moods.Set(mood, true)
		_, err := contract.Some(d, t, contract.Request(t, c, "people", ""))
		require.Error(t, err, mood)
	}
}

// TestARealServer: OpenLDAP's slapd keeps the same contract.
func TestARealServer(t *testing.T) {
	slapd, err := exec.LookPath("/usr/sbin/slapd")
	if err != nil {
		t.Skip("slapd is not installed; make test installs it")
	}
	dir := t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(dir, "db"), 0o700))
	conf := fmt.Sprintf(`include /etc/ldap/schema/core.schema
include /etc/ldap/schema/cosine.schema
include /etc/ldap/schema/inetorgperson.schema
modulepath /usr/lib/ldap
moduleload back_mdb
pidfile %[1]s/pid
database mdb
suffix "dc=skerry,dc=example"
rootdn "cn=reader,dc=skerry,dc=example"
rootpw muster-list-5
directory %[1]s/db
`, dir)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "slapd.conf"), []byte(conf), 0o600))
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	port := l.Addr().(*net.TCPAddr).Port
	l.Close()
	cmd := exec.Command(slapd, "-f", filepath.Join(dir, "slapd.conf"), "-h", fmt.Sprintf("ldap://127.0.0.1:%d", port), "-d", "0")
	out := &strings.Builder{}
	cmd.Stderr = out
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		cmd.Process.Kill()
		cmd.Wait()
	})
	require.NoError(t, standin.Reachable(t.Context(), fmt.Sprintf("127.0.0.1:%d", port)), out.String())
	values := map[string]string{"host": "127.0.0.1", "port": fmt.Sprint(port), "encryption": "none", "user": crewroll.User, "password": crewroll.Password, "base": crewroll.Base}
	d := open(t, values)
	seed(t, d)
	c := contract.Part(t, part, schemas(t)...)
	contractOf(t, d, c, 5)
	same, err := d.Call(t.Context(), contract.Request(t, c, "same", `{"dn": "uid=jhaar,ou=people,dc=skerry,dc=example", "attribute": "sn", "value": "haar"}`))
	require.NoError(t, err)
	require.True(t, same.Field("same").IsTrue())
	values["password"] = "wrong-word"
	_, told := contract.Probe(t, open(t, values))
	require.Contains(t, told, "signed in: the directory does not take the sign-in")
}

func seed(t *testing.T, d *Directory) {
	t.Helper()
	add := func(dn string, pairs map[string][]string) {
		req := ldap.NewAddRequest(dn, nil)
		for name, list := range pairs {
			req.Attribute(name, list)
		}
		require.NoError(t, d.with(t.Context(), false, func(c *ldap.Conn) error { return c.Add(req) }))
	}
	add(crewroll.Base, map[string][]string{"objectClass": {"dcObject", "organization"}, "dc": {"skerry"}, "o": {"Skerry Line"}})
	for _, ou := range []string{"people", "groups"} {
		add("ou="+ou+","+crewroll.Base, map[string][]string{"objectClass": {"organizationalUnit"}, "ou": {ou}})
	}
	var members []string
	for i, name := range []string{"Tove Lind", "Jon Haar", "Sunniva Moe", "Eir Dahl", "Pall Joensen"} {
		given, sn, _ := strings.Cut(name, " ")
		dn := "uid=" + strings.ToLower(given[:1]+sn) + ",ou=people," + crewroll.Base
		members = append(members, dn)
		add(dn, map[string][]string{"objectClass": {"inetOrgPerson"}, "cn": {name}, "sn": {sn}, "employeeNumber": {fmt.Sprint(4117 + i)}})
	}
	add("cn=watch,ou=groups,"+crewroll.Base, map[string][]string{"objectClass": {"groupOfNames"}, "cn": {"watch"}, "member": members[:3]})
}

func TestFiltersAreEscaped(t *testing.T) {
	v := value.NewRecord(value.NewLayout("a"), []value.Value{value.NewText(`x*)(\` + "\x00")})
	got, err := Filled("(cn={a})", v)
	require.NoError(t, err)
	require.Equal(t, `(cn=x\2a\29\28\5c\00)`, got)
	_, err = Filled("(cn={b})", v)
	require.ErrorContains(t, err, "the request has no b")
	_, err = Filled("(cn={b", v)
	require.ErrorContains(t, err, "not ended")
}
