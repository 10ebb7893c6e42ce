package oneroster_test

import (
	"archive/zip"
	"bytes"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"kanban/internal/wire/oneroster"
)

func pack(t testing.TB, files map[string]string) *bytes.Reader {
	t.Helper()
	var out bytes.Buffer
	z := zip.NewWriter(&out)
	for name, text := range files {
		f, err := z.Create(name)
		require.NoError(t, err)
		_, err = f.Write([]byte(text))
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	return bytes.NewReader(out.Bytes())
}

const manifest = "\ufeffpropertyName,value\r\noneroster.version,1.2\r\nfile.users,bulk\r\nfile.orgs,absent\r\n"

func open(t testing.TB, files map[string]string) (*oneroster.Package, error) {
	r := pack(t, files)
	return oneroster.OpenPackage(r, r.Size(), oneroster.Limits{})
}

func TestCSVReadsWhatRealFilesHold(t *testing.T) {
	p, err := open(t, map[string]string{
		"manifest.csv": manifest,
		"users.csv": "\ufefffamilyName,sourcedId,enabledUser,givenName,email,metadata.bus,shoeSize\r\n" +
			"Alder,u1,true,Ada,ada@x.example,7,41\n" + // LF among CRLF
			"\"Birch,\r\nthe \"\"younger\"\"\",u2,false,Bram,,,\r\n" +
			"Clover,u3,maybe,Cleo,,,\r\n" + // neither true nor false
			"short,row\r\n" +
			"\r\n" +
			"Dill,u5,true,Dario,,,",
	})
	require.NoError(t, err)
	var names, bad, extra []string
	require.NoError(t, p.Rows(oneroster.FileUsers, func(r oneroster.Row) error {
		names = append(names, r.Get("familyName"))
		assert.Empty(t, r.Get("status"), "a column that is missing")
		return nil
	}, func(b oneroster.Bad) error { bad = append(bad, b.Cause); return nil }, func(c string) {
		extra = append(extra,
			c)
	}))
	assert.Equal(t, []string{"Alder", "Birch,\nthe \"younger\"", "Clover", "Dill"}, names)
	assert.Equal(t, []string{
		"it has 2 values, the header 7",
		"the file does not end with a line break, as manifest.csv does: its end may be missing",
	}, bad)
	assert.Equal(t, []string{"shoeSize"}, extra, "reported, unlike metadata")
	require.NoError(t, p.Rows(oneroster.FileOrgs, func(oneroster.Row) error { t.Fatal("absent"); return nil }, nil,
		nil))
}

func TestPackagesThatCannotBeRead(t *testing.T) {
	for want, files := range map[string]map[string]string{
		"manifest.csv is missing":   {"users.csv": ""},
		"promises users.csv":        {"manifest.csv": manifest},
		"version \"2.0\"":           {"manifest.csv": "propertyName,value\noneroster.version,2.0\n"},
		"absent, bulk and delta ar": {"manifest.csv": "propertyName,value\noneroster.version,1.2\nfile.users,whole\n"},
	} {
		_, err := open(t, files)
		require.ErrorIs(t, err, oneroster.ErrPackage)
		assert.ErrorContains(t, err, want)
	}
	_, err := oneroster.OpenPackage(bytes.NewReader([]byte("no zip")), 6, oneroster.Limits{})
	assert.ErrorIs(t, err, oneroster.ErrPackage)
	for want, users := range map[string]string{
		"lacks the column enabledUser": "sourcedId,givenName,familyName\n",
		"no header row":                "",
	} {
		p, err := open(t, map[string]string{"manifest.csv": manifest, "users.csv": users})
		require.NoError(t, err)
		assert.ErrorContains(t, p.Rows(oneroster.FileUsers, nil, nil, nil), want)
	}
}

func TestWhatIsWrittenIsRead(t *testing.T) {
	var out bytes.Buffer
	require.NoError(t, oneroster.WritePackage(&out, "Test", map[string]oneroster.Table{
		oneroster.FileClasses: {
			Mode: oneroster.Delta,
			Rows: []map[string]string{{
				"sourcedId": "c1", "status": "tobedeleted", "title": "A \"B\", C",
				"courseSourcedId": "k", "termSourcedIds": "t1,t2",
			}},
		},
	}))
	p, err := oneroster.OpenPackage(bytes.NewReader(out.Bytes()), int64(out.Len()), oneroster.Limits{})
	require.NoError(t, err)
	assert.Equal(t, oneroster.Delta, p.Modes[oneroster.FileClasses])
	require.NoError(t, p.Rows(oneroster.FileClasses, func(r oneroster.Row) error {
		assert.Equal(t, `A "B", C`, r.Get("title"))
		assert.Equal(t, []string{"t1", "t2"}, oneroster.List(r.Get("termSourcedIds")))
		assert.Equal(t, oneroster.ToBeDeleted, r.Get("status"))
		return nil
	}, nil, nil))
}

func FuzzCSV(f *testing.F) {
	f.Add("sourcedId,enabledUser,givenName,familyName\nu,true,a,b\n")
	f.Add("\ufeff\"sourcedId,enabledUser\n\"\"")
	f.Fuzz(func(t *testing.T, users string) {
		p, err := open(t, map[string]string{"manifest.csv": manifest, "users.csv": users})
		if err != nil {
			t.Fatal(err)
		}
		_ = p.Rows(oneroster.FileUsers, func(r oneroster.Row) error {
			assert.Equal(t, r.Sum(), r.Sum())
			_ = oneroster.UserIDs(r.Get("userIds"))
			return nil
		}, func(oneroster.Bad) error { return nil }, func(string) {})
	})
}
