package ini_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"toril/syntax"
	"toril/syntax/ini"
	"toril/syntax/syntaxtest"
)

func told(text string) string {
	var out []string
	f := ini.Parse([]byte(text))
	for _, s := range f.Sections {
		out = append(out, fmt.Sprintf("%d [%s]", s.At.Line, s.Name))
		for _, v := range s.Values {
			out = append(out, fmt.Sprintf("%d %s=%s", v.At.Line, v.Key, v.Text))
		}
	}
	for _, b := range f.Bad {
		out = append(out, fmt.Sprintf("%d bad", b.Line))
	}
	return strings.Join(out, "; ")
}

func TestParse(t *testing.T) {
	for text, want := range map[string]string{
		"[a]\nb = c\n":                   "1 [a]; 2 b=c",
		"# x\n; y\n\n [a] \n\tb=c = d":   "4 [a]; 5 b=c = d",
		"[a]\nb=c \\\n   d\ne=f":         "1 [a]; 2 b=c  d; 4 e=f",
		"[a]\nb=c\\":                     "1 [a]; 2 b=c\\",
		"[a]\n# b \\\nc=d":               "1 [a]; 3 c=d",
		"a=b\n[c]\nwarble\nd=\n":         "2 [c]; 4 d=; 1 bad; 3 bad",
		"[a]\n[a]\nb=1\nb=2\n":           "1 [a]; 2 [a]; 3 b=1; 4 b=2",
		"[a]\r\nb=c\r\nd=e \\\r\n f\r\n": "1 [a]; 2 b=c; 3 d=e  f",
		"":                               "",
	} {
		assert.Equal(t, want, told(text), "%q", text)
	}
	f := ini.Parse([]byte("[a]\nb=1\nb=2\n"))
	assert.Equal(t, "1", f.Sections[0].Get("b"))
	assert.Empty(t, f.Sections[0].Get("c"))
}

func back(t *testing.T, text string) {
	f := ini.Parse([]byte(text))
	places := append([]syntax.Place{}, f.Bad...)
	for _, s := range f.Sections {
		places = append(places, s.At)
		for _, v := range s.Values {
			places = append(places, v.At)
			assert.Contains(t, text[v.At.Start:v.At.End], "=")
		}
	}
	for _, b := range syntaxtest.PrintedBack(t, text, places) {
		for line := range strings.Lines(b) {
			line = strings.TrimSpace(line)
			assert.True(t, line == "" || line[0] == '#' || line[0] == ';' || line == "\\", "%q", line)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add("[a]\nb = c \\\n d\n# x\n")
	f.Add("; \\\n[x\ry]\r\n=\\")
	f.Fuzz(func(t *testing.T, text string) { back(t, text) })
}
