package daemon_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"toril/daemon"
	"toril/daemon/known"
	"toril/source"
)

func TestTable(t *testing.T) {
	rows := daemon.Table("f", "s", "page", "a = 1\n\n b@2.1 ~ what a is; or less # another page\nc =\n")
	assert.Equal(t, []daemon.Default{
		{File: "f", Section: "s", Key: "a", Value: "1", Source: "page"},
		{File: "f", Section: "s", Key: "b", Value: "what a is", Note: "or less", Computed: true, Since: "2.1", Source: "another page"},
		{File: "f", Section: "s", Key: "c", Source: "page"},
	}, rows)
	assert.Equal(t, "what a is; or less", rows[1].Text())
	assert.Equal(t, "nothing", rows[2].Text())
	assert.Equal(t, "s.a", rows[0].Name())
	assert.Panics(t, func() { daemon.Table("f", "s", "page", "a") })
}

func TestCompare(t *testing.T) {
	for _, c := range []struct {
		a, b string
		want int
	}{{"5.9.8", "5.9.8", 0}, {"5.9.8", "5.9.10", -1}, {"4.10", "4.6", 1}, {"6.0", "6.0.1", -1}, {"5", "4.15", 1}, {"5.x", "5.y", -1}} {
		assert.Equal(t, c.want, daemon.Compare(c.a, c.b), "%s, %s", c.a, c.b)
	}
}

// TestTables looks for rows that could not be meant: of no known version, twice, without a source.
func TestTables(t *testing.T) {
	for _, k := range known.All() {
		seen := map[string]daemon.Default{}
		for _, d := range k.Defaults() {
			id := d.File + " " + d.Name()
			if before, ok := seen[id]; ok {
				assert.NotEmpty(t, d.Since, "%s stands twice", id)
				assert.Positive(t, daemon.Compare(d.Since, before.Since), id)
				assert.NotEqual(t, before.Text(), d.Text(), id)
			}
			seen[id] = d
			assert.NotEmpty(t, d.Source, id)
			assert.NotEmpty(t, d.Key, id)
		}
		assert.Len(t, k.In(""), len(seen))
		for i := 1; i < len(k.Versions); i++ {
			assert.Negative(t, daemon.Compare(k.Versions[i-1], k.Versions[i]), k.Daemon.Name)
		}
		for _, o := range k.Own {
			for _, v := range append([]string{""}, k.Versions...) {
				assert.NotEmpty(t, o.Proposals(v), "%s %s of %s", o.What, v, k.Daemon.Name)
			}
		}
	}
}

func TestByVersion(t *testing.T) {
	k := daemon.Find(known.All(), "libreswan")
	window := func(version string) daemon.Default {
		return k.For(version, "ipsec.conf-libreswan", "conn")["replay-window"]
	}
	assert.Equal(t, "32", window("4.5").Value)
	assert.Equal(t, "128", window("4.6").Value)
	assert.Equal(t, "128", window("4.10").Value)
	assert.Empty(t, window("4.10").Change(), "of a known version nothing is left open")
	assert.Equal(t, "since 4.6; before: 32", window("").Change())
	assert.Nil(t, daemon.Find(known.All(), "warble"))
}

func TestVersionIn(t *testing.T) {
	for text, want := range map[string]string{
		"# strongSwan 5.9.8\n":                               "5.9.8",
		"x\n  # made by strongSwan version 6.0.1\n":          "6.0.1",
		"# Linux strongSwan U5.9.8/K6.1.0\n":                 "5.9.8",
		"# strongswan: v5.9.1\n":                             "5.9.1",
		"# Libreswan 4.10\n# strongSwan 5.9.1\n":             "5.9.1",
		"# migrated from strongSwan 5.3.5\n":                 "",
		"# strongSwan 5.3.5 until 2019\n":                    "",
		"# strongSwan (5.9.8)\n":                             "5.9.8",
		"# strongSwan\n":                                     "",
		"remark = strongSwan 5.9.8\n":                        "",
		"# strongSwan 5.9.8-5+deb12u1\n":                     "5.9.8",
		"# strongSwan IPsec configuration file, section 5\n": "",
	} {
		v, ok := daemon.VersionIn(source.NewFile("a", []byte(text)), "strongSwan")
		assert.Equal(t, want, v.Number, text)
		assert.Equal(t, want != "", ok, text)
	}
	_, ok := daemon.VersionIn(source.NewFile("a", []byte("# /etc/ipsec.conf - Libreswan 4.0 configuration file\n")), "Libreswan")
	assert.False(t, ok, "4.10 ships it")
	assert.True(t, daemon.IsVersion("5.9.8"))
	assert.False(t, daemon.IsVersion("5"))
	assert.False(t, daemon.IsVersion("5.9.8-x"))
}
