package estate

import (
	"errors"
	"fmt"
	"io/fs"
	"net/netip"
	"path"
	"slices"
	"strings"

	"toril/daemon"
	"toril/daemon/known"
	"toril/ike"
	"toril/internal/disk"
	"toril/internal/strictyaml"
	"toril/model"
	"toril/model/literal"
	"toril/packet"
	"toril/read"
	"toril/read/phrasebook"
	"toril/source"
)

// ConfigName is the file in an estate's folder that says what no gateway's configuration can.
const ConfigName = "toril.yaml"

// Config is what an estate's toril.yaml says.
type Config struct {
	Books    []*read.Format // of the phrasebooks that it names
	Formats  []FormatRule
	Versions []VersionRule
	Intents  []*Intent
	// Exceptions are the findings that owners accept.
	Exceptions []*Exception
	// KeyRules are what far ends take as pre-shared keys.
	KeyRules []*KeyRule

	problems  []*source.Error // of phrasebooks, which are not used then
	bookFiles []string        // below the estate's folder
}

// FormatRule overrules what a file is taken for.
type FormatRule struct {
	Pattern string // of paths below the estate's folder (path.Match)
	Format  string // a format's name, or "skip"
	At      source.Pos
}

// VersionRule says which version of a daemon gateways have.
type VersionRule struct {
	Pattern string // of gateways' names (path.Match)
	Version model.Version
}

// Intent is what a tunnel is for, as its owners declare it.
type Intent struct {
	At         source.Pos
	Between    []string // names of gateways; one where the far end was not given
	Connection string   // of the first of them; "" for every connection between the two
	Partner    string   // who is at the far end; "" for an own site
	FullTunnel bool     // everything is meant to go through it
	Allow      []Allowed
	Used       bool // some tunnel is meant
}

// Allowed is one flow that a tunnel is for.
type Allowed struct {
	At       source.Pos
	Packets  packet.Set // as they leave the first gateway of Between, or the other one
	Needed   packet.Set // of those, what must pass for the flow to be of use: of ICMP echo requests
	Text     string
	Protocol string
}

// document is toril.yaml as it is written.
type document struct {
	Books    []string          `yaml:"phrasebooks"`
	Formats  map[string]string `yaml:"formats"`
	Versions map[string]string `yaml:"versions"`
	Tunnels  []tunnelText      `yaml:"tunnels"`

	Exceptions []ExceptionText `yaml:"exceptions"`
	Keys       []keyRuleText   `yaml:"keys"`
}

type tunnelText struct {
	Between    []string    `yaml:"between"`
	Connection string      `yaml:"connection"`
	Partner    string      `yaml:"partner"`
	FullTunnel bool        `yaml:"full-tunnel"`
	Allow      []allowText `yaml:"allow"`
}

type allowText struct {
	From     string `yaml:"from"`
	To       string `yaml:"to"`
	Protocol string `yaml:"protocol"`
	Ports    string `yaml:"ports"`
}

// ParseConfig reads a toril.yaml. open opens a file below its folder, a phrasebook. Its error is a *source.Error with the line of the
// mistake, in the phrasebook where it is there.
func ParseConfig(file string, text []byte, formats []*read.Format, open func(name string) ([]byte, error)) (*Config, error) {
	var d document
	tree, err := strictyaml.Decode(file, text, &d)
	if err != nil {
		return nil, err
	}
	at := func(p string) source.Pos { return source.Pos{File: file, Line: tree.Line(p)} }
	c := &Config{}
	if err := c.books(d.Books, at, path.Dir(file), formats, open); err != nil {
		return nil, err
	}
	formats = slices.Concat(c.Books, formats)
	if err := c.rules(d.Formats, tree, file, formats); err != nil {
		return nil, err
	}
	for _, kv := range strictyaml.Pairs(tree.Root()) {
		if kv.Key.String() != "versions" {
			continue
		}
		for _, rule := range strictyaml.Pairs(kv.Value) {
			pos := source.Pos{File: file, Line: rule.Key.GetToken().Position.Line}
			pattern := strings.Trim(rule.Key.String(), `"'`)
			if err := c.version(pattern, d.Versions[pattern], pos, formats); err != nil {
				return nil, err
			}
		}
	}
	for i, t := range d.Tunnels {
		where := fmt.Sprintf("$.tunnels[%d]", i)
		in := &Intent{At: at(where), Between: t.Between, Connection: t.Connection, Partner: t.Partner, FullTunnel: t.FullTunnel}
		if len(t.Between) == 0 || len(t.Between) > 2 {
			return nil, source.Errorf(
				in.At,
				"a tunnel is between two gateways, or between one and a far end that was not given: between: [a, b]",
			)
		}
		for k, a := range t.Allow {
			pos := at(fmt.Sprintf("%s.allow[%d]", where, k))
			one, err := a.allowed(pos)
			if err != nil {
				return nil, source.Errorf(pos, "%v", err)
			}
			in.Allow = append(in.Allow, one)
		}
		c.Intents = append(c.Intents, in)
	}
	if c.KeyRules, err = keyRules(d.Keys, file, tree); err != nil {
		return nil, err
	}
	c.Exceptions, err = exceptions(d.Exceptions, file, tree)
	return c, err
}

// rules reads what overrules recognition.
func (c *Config) rules(texts map[string]string, tree *strictyaml.Tree, file string, formats []*read.Format) error {
	known := []string{"skip"}
	for _, f := range formats {
		known = append(known, f.Name)
	}
	for _, kv := range strictyaml.Pairs(tree.Root()) {
		if kv.Key.String() != "formats" {
			continue
		}
		for _, rule := range strictyaml.Pairs(kv.Value) {
			pos := source.Pos{File: file, Line: rule.Key.GetToken().Position.Line}
			pattern := strings.Trim(rule.Key.String(), `"'`)
			format := texts[pattern]
			if _, err := path.Match(pattern, "x"); err != nil {
				return source.Errorf(pos, "%q is not a pattern of file names", source.Clean(pattern))
			}
			if !slices.Contains(known, format) {
				return source.Errorf(pos, "unknown format %q; %s", source.Clean(format), strictyaml.Suggest(format, known))
			}
			c.Formats = append(c.Formats, FormatRule{pattern, format, pos})
		}
	}
	return nil
}

// allowed reads one flow: networks with commas between, a protocol, ports.
func (a allowText) allowed(at source.Pos) (Allowed, error) {
	out := Allowed{At: at, Protocol: a.Protocol}
	side := func(text string) (ike.Selectors, error) {
		var ss ike.Selectors
		for part := range strings.SplitSeq(text, ",") {
			part = strings.TrimSpace(part)
			if part == "any" {
				part = "0.0.0.0/0"
				six, _ := literal.Net("::/0")
				ss = append(ss, six)
			}
			s, err := literal.Net(part)
			if err != nil || s.Dynamic {
				return nil, fmt.Errorf("%q is not a network, an address or a range", part)
			}
			ss = append(ss, s)
		}
		return ss, nil
	}
	from, err := side(a.From)
	if err != nil {
		return out, err
	}
	to, err := side(a.To)
	if err != nil {
		return out, err
	}
	set := ike.Domain(from, to, netip.Addr{}, netip.Addr{})
	switch a.Protocol {
	case "", "any", "echo", "ping":
	default:
		n, err := literal.Proto(a.Protocol)
		if err != nil {
			return out, err
		}
		set = set.And(packet.Where(packet.Proto, packet.OneOf(uint64(n))))
	}
	if a.Ports != "" {
		if a.Protocol == "" || a.Protocol == "any" {
			set = set.And(packet.Where(packet.Proto, packet.OneOf(6, 17)))
		}
		var all []packet.Values
		for part := range strings.SplitSeq(a.Ports, ",") {
			v, err := literal.Ports(strings.TrimSpace(part))
			if err != nil {
				return out, err
			}
			all = append(all, v)
		}
		set = set.And(packet.Where(packet.Dport, packet.Join(all...)))
		if set.Empty() {
			return out, errors.New("its protocol has no ports")
		}
	}
	if a.Protocol == "echo" || a.Protocol == "ping" {
		set = set.And(echoes)
	}
	out.Packets, out.Text, out.Needed = set, set.String(), set.Minus(icmp.Minus(echo))
	return out, nil
}

// icmp are the messages of ICMP and ICMPv6, echo their echo requests, echoes these with any code: filters tell types apart, and nobody
// sends another code than 0.
var (
	icmp   = packet.Where(packet.Proto, packet.WithTypes)
	echo   = echoOf(0)
	echoes = echoOf(255)
)

// echoOf are echo requests with a code up to one.
func echoOf(most uint64) packet.Set {
	return packet.Only(packet.IPv4).With(packet.Proto, packet.OneOf(1)).With(packet.ICMP, packet.Numbers(8<<8, 8<<8|most)).
		Or(packet.Only(packet.IPv6).With(packet.Proto, packet.OneOf(58)).With(packet.ICMP, packet.Numbers(128<<8, 128<<8|most)))
}

// version notes which version of a daemon gateways have: "strongSwan 5.9.8"; or of a language that a phrasebook teaches: "wharfgate 3.2".
func (c *Config) version(pattern, text string, at source.Pos, formats []*read.Format) error {
	if _, err := path.Match(pattern, "x"); err != nil {
		return source.Errorf(at, "%q is not a pattern of gateways' names", source.Clean(pattern))
	}
	name, number, _ := strings.Cut(strings.TrimSpace(text), " ")
	number, on, _ := strings.Cut(number, " on ")
	k := daemon.Find(known.All(), name)
	taught := slices.IndexFunc(formats, func(f *read.Format) bool { return f.Taught && f.Name == name })
	if taught >= 0 && daemon.IsVersion(number) {
		c.Versions = append(c.Versions, VersionRule{pattern, model.Version{Software: name, Number: number, At: at}})
		return nil
	}
	if k == nil {
		var names []string
		for _, k := range known.All() {
			names = append(names, k.Daemon.Name)
		}
		for _, f := range formats {
			if f.Taught {
				names = append(names, f.Name)
			}
		}
		return source.Errorf(at, "unknown daemon %q; %s", source.Clean(name), strictyaml.Suggest(name, names))
	}
	if on != "" && !slices.Contains(k.Systems, on) {
		return source.Errorf(at, "nothing is known of %s that it does otherwise on %q", k.Daemon.Name, source.Clean(on))
	}
	if !daemon.IsVersion(number) {
		return source.Errorf(
			at,
			"%q is not a version; write it as %s %s",
			source.Clean(number),
			k.Daemon.Name,
			k.Versions[len(k.Versions)-1],
		)
	}
	c.Versions = append(c.Versions, VersionRule{pattern, model.Version{Software: k.Daemon.Name, Number: number, On: on, At: at}})
	return nil
}

// books reads the phrasebooks of an estate.
func (c *Config) books(
	names []string, at func(string) source.Pos, folder string, formats []*read.Format, open func(string) ([]byte, error),
) error {
	for i, name := range names {
		pos := at(fmt.Sprintf("$.phrasebooks[%d]", i))
		if !fs.ValidPath(name) || name == "." {
			return source.Errorf(pos, "%q is not a file below the folder of %s", source.Clean(name), ConfigName)
		}
		c.bookFiles = append(c.bookFiles, name)
		text, err := open(name)
		if err != nil {
			return source.Errorf(pos, "phrasebook %s cannot be read: %v", source.Clean(name), reason(err))
		}
		b, err := phrasebook.Load(path.Join(folder, name), text)
		if err != nil { // the others, and the rest of the estate, are read
			c.problems = append(c.problems, asProblem(err, path.Join(folder, name)))
			continue
		}
		if slices.ContainsFunc(slices.Concat(c.Books, formats), func(f *read.Format) bool { return f.Name == b.Language }) {
			return source.Errorf(pos, "there is a format %s already", b.Language)
		}
		c.Books = append(c.Books, b.Format())
	}
	return nil
}

// all are the formats of an estate: those of its phrasebooks, and others.
func (c *Config) all(others []*read.Format) []*read.Format {
	if c == nil || len(c.Books) == 0 {
		return others
	}
	return slices.Concat(c.Books, others)
}

// own reports whether a file below the estate's folder is of the estate itself.
func (c *Config) own(name string) bool {
	return name == ConfigName || c != nil && slices.Contains(c.bookFiles, name)
}

// versionsOf returns what is said of a gateway's daemons.
func (c *Config) versionsOf(gateway string) []model.Version {
	var out []model.Version
	if c != nil {
		for _, r := range c.Versions {
			if ok, _ := path.Match(r.Pattern, gateway); ok {
				out = append(out, r.Version)
			}
		}
	}
	return out
}

// formatFor returns the format that a file's path is told to have; told is false where nobody says.
func (c *Config) formatFor(name string) (format string, told bool) {
	if c == nil {
		return "", false
	}
	for _, r := range c.Formats {
		if ok, _ := path.Match(r.Pattern, name); ok {
			return r.Format, true
		}
	}
	return "", false
}

// loadConfig reads the toril.yaml of a folder; nil where there is none.
func (l *loader) loadConfig(fsys fs.FS, prefix string) *Config {
	data, err := disk.Read(fsys, ConfigName, strictyaml.MaxBytes)
	if err != nil {
		if !errors.Is(err, fs.ErrNotExist) {
			l.problem(prefix+ConfigName, "cannot be read: %v", reason(err))
		}
		return nil
	}
	l.settings.Text(prefix)
	l.settings.Bytes(data)
	open := func(name string) ([]byte, error) {
		data, err := disk.Read(fsys, name, strictyaml.MaxBytes)
		l.settings.Text(name, fmt.Sprint(err))
		l.settings.Bytes(data)
		return data, err
	}
	c, err := ParseConfig(prefix+ConfigName, data, l.opts.Formats, open)
	if err != nil {
		l.problems = append(l.problems, asProblem(err, prefix+ConfigName))
		return nil
	}
	l.files = append(l.files, source.NewFile(prefix+ConfigName, data))
	l.intents = append(l.intents, c.Intents...)
	l.exceptions = append(l.exceptions, c.Exceptions...)
	l.keyRules = append(l.keyRules, c.KeyRules...)
	l.problems = append(l.problems, c.problems...)
	return c
}
