// Package estatetest writes the files of estates for tests.
package estatetest

import (
	"strings"
	"testing/fstest"
)

// Conn writes a connection of swanctl.conf; empty parts are left out.
func Conn(name, local, remote, id, peerID, localTS, remoteTS string) string {
	line := func(k, v string) string {
		if v == "" {
			return ""
		}
		return " " + k + " = " + v + "\n"
	}
	return "connections {\n" + name + " {\n" + line("local_addrs", local) + line("remote_addrs", remote) +
		" local {\n auth = psk\n" + line("id", id) + " }\n remote {\n auth = psk\n" + line("id", peerID) +
		" }\n children {\n k {\n" + line("local_ts", localTS) + line("remote_ts", remoteTS) + " }\n }\n}\n}\n"
}

// File makes a file of its parts.
func File(parts ...string) *fstest.MapFile {
	return &fstest.MapFile{Data: []byte(strings.Join(parts, ""))}
}
