// Package readtest helps to test readers: it reads a text as if it were a file of a gateway.
package readtest

import (
	"context"
	"testing/fstest"

	"toril/gateway"
	"toril/read"
)

// Read reads a text in a format. Other files that it may include are given by name. The gateway's first file is the
// text, under the name given.
func Read(format *read.Format, name, text string, others map[string]string) *gateway.Gateway {
	fsys := fstest.MapFS{name: {Data: []byte(text)}}
	for n, t := range others {
		fsys[n] = &fstest.MapFile{Data: []byte(t)}
	}
	folder := &read.Folder{FS: fsys, MaxBytes: 64 << 20, Taken: map[string]bool{}}
	g := &gateway.Gateway{Name: "g"}
	f, err := folder.Open(name)
	if err != nil {
		panic(err) // the text is there
	}
	f.Format = format.Name
	g.Files = append(g.Files, f)
	format.Read(read.NewInput(context.Background(), g, f, folder))
	return g
}

// Unread lists what a gateway's files left unread, as "line: why".
func Unread(g *gateway.Gateway) []string {
	var out []string
	for _, f := range g.Files {
		for _, u := range f.Unread {
			out = append(out, u.At.String()+": "+u.Why)
		}
	}
	return out
}

// Problems lists what is wrong with a gateway's files.
func Problems(g *gateway.Gateway) []string {
	var out []string
	for _, p := range g.Problems {
		out = append(out, p.Error())
	}
	return out
}
