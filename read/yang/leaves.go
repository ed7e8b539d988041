package yang

import (
	"time"

	"toril/model/settings"
)

// leaf is a setting that one leaf of RFC 9061 says, both ways.
type leaf struct {
	path string // below a conn-entry, or below ipsec-policy-config of a spd-entry
	row  *settings.Row
	spd  bool // it stands at each spd-entry, not once for a connection
}

// leaves are the settings that one leaf says (RFC 9061, sections 5.1 and A.2). Times are in seconds.
var leaves = []leaf{
	{"ike-sa-lifetime-soft/rekey-time", settings.IKELifetime.Row, false},
	{"ike-sa-lifetime-soft/reauth-time", settings.Reauthentication.Row, false},
	{"ike-sa-lifetime-hard/over-time", settings.IKEOvertime.Row, false},
	{"child-sa-info/child-sa-lifetime-soft/time", settings.ChildLifetime.Row, false},
	{"child-sa-info/child-sa-lifetime-soft/bytes", settings.ChildLifetimeBytes.Row, false},
	{"child-sa-info/child-sa-lifetime-soft/packets", settings.ChildLifetimePackets.Row, false},
	{"child-sa-info/child-sa-lifetime-soft/idle", settings.Inactivity.Row, false},
	{"child-sa-info/child-sa-lifetime-hard/time", settings.ChildHardLifetime.Row, false},
	{"child-sa-info/child-sa-lifetime-hard/bytes", settings.ChildHardLifetimeBytes.Row, false},
	{"child-sa-info/child-sa-lifetime-hard/packets", settings.ChildHardLifetimePackets.Row, false},
	{"anti-replay-window-size", settings.ReplayWindow.Row, true},
}

// number is a setting's value as a leaf has it; ok is false for a type that no leaf has.
func number(v any) (n uint64, ok bool) {
	switch v := v.(type) {
	case time.Duration:
		return uint64(v / time.Second), v%time.Second == 0
	case uint64:
		return v, true
	case int:
		return uint64(max(0, v)), v >= 0
	}
	return 0, false
}

// value is a leaf's number as the setting takes it.
func value(row *settings.Row, n uint64) any {
	switch row.Takes() {
	case durations:
		return time.Duration(min(n, 1<<33)) * time.Second
	case ints:
		return int(min(n, 1<<31-1))
	}
	return n
}
