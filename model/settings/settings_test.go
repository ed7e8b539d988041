package settings_test

import (
	"os"
	"reflect"
	"regexp"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/ike"
	"toril/model"
	"toril/model/settings"
	"toril/source"
)

// beside are the settings of the model that have no row, each with the reason.
var beside = map[string]string{
	"Connection.Rekey":  "ike-lifetime has the shorter of it and reauthentication",
	"Connection.Random": "how much of a renewal is left to chance",
	"Connection.IfIDIn": "its children have it", "Connection.IfIDOut": "its children have it", "Connection.Margin": "part of the lifetime",
	"Local.CAs":      "who vouches for the own certificate is the peer's matter",
	"Child.Protocol": "the term of child-proposals says it", "Child.Random": "how much of a renewal is left to chance",
	"Child.Margin": "part of the lifetime",
	"Child.PFS":    "pfs says what comes of it and of the proposals", "Child.ForwardOut": "a detail of the policies in the kernel",
	"Child.OpensHost": "opens-filter says the greater part",
}

// TestEverySettingHasARow says each setting of the model in turn, and looks for a row that shows it.
func TestEverySettingHasARow(t *testing.T) {
	unused := map[string]bool{}
	for name := range beside {
		unused[name] = true
	}
	try := func(name string, s settings.Subject, field reflect.Value) {
		at := source.Pos{File: "here", Line: 7}
		field.FieldByName("Origin").Set(reflect.ValueOf(model.Said))
		field.FieldByName("At").Set(reflect.ValueOf(at))
		found := false
		for _, r := range settings.All() {
			if v, ok := r.Get(s); ok && v.At == at && !v.Default {
				found = true
			}
		}
		if beside[name] != "" {
			delete(unused, name)
			assert.False(t, found, "%s has a row", name)
			return
		}
		assert.True(t, found, "%s has no row", name)
	}
	each := func(what string, make func() (settings.Subject, reflect.Value)) {
		_, v := make()
		for i := range v.NumField() {
			s, v := make()
			if f := v.Field(i); f.Kind() == reflect.Struct && f.FieldByName("Origin").IsValid() {
				try(what+"."+v.Type().Field(i).Name, s, f)
			}
		}
	}
	conn := func() *model.Connection {
		return &model.Connection{
			Version: model.Setting[ike.Version]{Value: ike.V1},
			Reauth:  model.Setting[time.Duration]{Value: time.Hour},
		}
	}
	each("Connection", func() (settings.Subject, reflect.Value) {
		c := conn()
		return settings.Subject{Connection: c}, reflect.ValueOf(c).Elem()
	})
	each("Local", func() (settings.Subject, reflect.Value) {
		c := conn()
		return settings.Subject{Connection: c}, reflect.ValueOf(&c.Local).Elem()
	})
	each("Remote", func() (settings.Subject, reflect.Value) {
		c := conn()
		return settings.Subject{Connection: c}, reflect.ValueOf(&c.Remote).Elem()
	})
	each("Child", func() (settings.Subject, reflect.Value) {
		k := &model.Child{}
		return settings.Subject{Connection: conn(), Child: k}, reflect.ValueOf(k).Elem()
	})
	assert.Empty(t, unused, "settings that are no more")
}

// TestTable looks for rows that contradict themselves or each other.
func TestTable(t *testing.T) {
	all, seen := settings.All(), map[string]bool{}
	for _, r := range all {
		assert.False(t, seen[r.Name], "%s stands twice", r.Name)
		seen[r.Name] = true
		assert.NotEmpty(t, r.Term, r.Name)
		if r.Relation != settings.Mirrored {
			assert.Empty(t, r.Peer+r.Each, r.Name)
			continue
		}
		p := settings.Named(r.Peer)
		if assert.NotNil(t, p, r.Name) {
			assert.Equal(t, r.Name, p.Peer)
			assert.Equal(t, r.Of, p.Of)
			assert.NotEqual(t, r.Each == "", p.Each == "", "one of the two has a term for each end: %s", r.Name)
		}
	}
	assert.Nil(t, settings.Named("warble"))
}

func TestGet(t *testing.T) {
	c := &model.Connection{
		Encap: model.Say(true, source.Pos{File: "f", Line: 3}),
		More:  map[string]model.Setting[string]{"fragmentation": model.Say("no", source.Pos{File: "f", Line: 4})},
	}
	at := settings.Subject{Connection: c}
	row := func(name string) *settings.Row { return settings.Named(name) }
	v, ok := row("encapsulation").Get(at)
	assert.True(t, ok)
	assert.Equal(t, settings.Shown{
		Text: "always in UDP", Plain: "always in UDP", Value: true, Origin: model.Said, At: source.Pos{File: "f", Line: 3},
	}, v)
	v, _ = row("fragmentation").Get(at)
	assert.Equal(t, "no", v.Text)
	_, ok = row("ikev1-mode").Get(at)
	assert.False(t, ok, "IKEv2 has no modes")
	_, ok = row("mode").Get(at)
	assert.False(t, ok, "no child is asked")
	assert.True(t, row("liveness-check").Told(at), "it is always told")
	assert.False(t, row("mobike").Told(at), "nobody says it")
	assert.True(t, row("fragmentation").Told(settings.Subject{Connection: &model.Connection{}}, at), "one end says it")
	k := &model.Child{Protocol: model.Setting[ike.Protocol]{Value: ike.AH}}
	assert.Equal(t, "AH proposals", row("child-proposals").Label(settings.Subject{Connection: c, Child: k}))
}

// TestEverySettingCanBeSet puts a value into each setting that does not follow from others, and gets it back.
func TestEverySettingCanBeSet(t *testing.T) {
	at := source.Pos{File: "here", Line: 7}
	for _, r := range settings.All() {
		s := settings.Subject{Connection: &model.Connection{}, Child: &model.Child{}}
		if r.Takes() == nil {
			assert.True(t, r.Derived, r.Name)
			assert.False(t, r.Put(s, "x", at), r.Name)
			continue
		}
		assert.False(t, r.Put(s, struct{}{}, at), "%s takes no such thing", r.Name)
		value := reflect.New(r.Takes()).Elem()
		switch value.Kind() {
		case reflect.Bool:
			value.SetBool(true)
		case reflect.Int, reflect.Int64:
			value.SetInt(3)
		case reflect.Uint8, reflect.Uint32, reflect.Uint64:
			value.SetUint(1)
		case reflect.String:
			value.SetString("x")
		}
		if r.Name == "ikev1-mode" {
			s.Connection.Version.Value = ike.V1
		}
		assert.True(t, r.Put(s, value.Interface(), at), r.Name)
		if v, ok := r.Get(s); ok {
			assert.Equal(t, at, v.At, r.Name)
			assert.False(t, v.Default, r.Name)
			if r.Name != "ike-lifetime" {
				assert.Equal(t, value.Interface(), v.Value, r.Name)
			}
		}
		assert.True(t, r.Assume(s, value.Interface(), "the daemon's"), r.Name)
		if v, ok := r.Get(s); ok && r.Name != "ike-lifetime" {
			assert.True(t, v.Default, r.Name)
			assert.Equal(t, value.Interface(), v.Value, r.Name)
		}
		if r.Of == settings.OfChild {
			assert.False(
				t,
				r.Put(settings.Subject{Connection: s.Connection}, value.Interface(), at),
				"%s has no place without a child",
				r.Name,
			)
		}
		assert.False(t, r.Put(settings.Subject{}, value.Interface(), at), r.Name)
	}
}

// TestWhereAValueComesFrom: what a file says, what it says for whoever refers to it, and what nobody says.
func TestWhereAValueComesFrom(t *testing.T) {
	at := source.Pos{File: "x", Line: 7}
	for _, row := range settings.All() {
		if row.Takes() == nil {
			continue
		}
		s := settings.Subject{Connection: &model.Connection{Aggressive: model.Say(true, at)}, Child: &model.Child{}}
		s.Connection.Version = model.Say(ike.V1, at)
		zero := reflect.Zero(row.Takes()).Interface()
		require.True(t, row.Inherit(s, zero, at), row.Name)
		v, has := row.Get(s)
		require.True(t, has, row.Name)
		assert.Equal(t, at, v.At, row.Name)
		assert.False(t, v.Default, row.Name)
		said, has := row.Said(s)
		assert.True(t, said && has, row.Name)
		if row.Name == "ike-version" { // the version decides which rows have a place
			continue
		}
		require.True(t, row.Assume(s, zero, "somebody"), row.Name)
		said, has = row.Said(s)
		assert.True(t, has && !said, row.Name)
		v, _ = row.Get(s)
		assert.True(t, v.Default, row.Name)
		assert.False(t, row.Inherit(s, struct{ x int }{5}, at), row.Name)
		assert.False(t, row.Put(settings.Subject{}, zero, at), row.Name)
	}
	aggressive := settings.Named("ikev1-mode")
	_, has := aggressive.Said(settings.Subject{Connection: &model.Connection{Version: model.Say(ike.V2, at)}})
	assert.False(t, has, "IKEv2 has no such mode")
}

// TestEverySettingIsListed: what table.go describes is in All, in its order; the two that are no settings stand at its end.
func TestEverySettingIsListed(t *testing.T) {
	data, err := os.ReadFile("table.go")
	require.NoError(t, err)
	var described []string
	for _, m := range regexp.MustCompile(`\bName:\s+"([^"]+)"`).FindAllStringSubmatch(string(data), -1) {
		described = append(described, m[1])
	}
	var listed []string
	for _, r := range settings.All() {
		listed = append(listed, r.Name)
		assert.Same(t, r, settings.Named(r.Name))
	}
	assert.Equal(t, described, append(listed, settings.NATExemption.Name, settings.PreSharedKey.Name))
}
