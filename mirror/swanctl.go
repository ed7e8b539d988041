package mirror

import (
	"cmp"
	"fmt"
	"reflect"
	"strings"

	"toril/daemon"
	"toril/daemon/strongswan"
	"toril/ike"
	"toril/model"
	"toril/model/settings"
)

// Swanctl writes the far end of a connection as a swanctl.conf. Read back, it agrees with the end that it was made from.
// The pre-shared key is left for people to fill in.
func Swanctl(s Sheet) (string, error) {
	c, gateway := s.Far, s.For.Gateway.Name
	if len(c.LocalAddrs.Value) == 0 && len(c.RemoteAddrs.Value) == 0 {
		return "", fmt.Errorf("%s names neither its own nor its peer's address; there is nothing to mirror", s.For.Name())
	}
	w := &writer{of: daemon.Subject{Subject: settings.Subject{Connection: c}}}
	w.line("# far end of %s; made by toril mirror", s.For.Name())
	for _, o := range s.Open {
		w.line("# to settle: %s", o)
	}
	w.open("connections")
	w.open(section(gateway))
	w.in(strongswan.PathConn)
	w.set(settings.IKEVersion.Row, c.Version.Value)
	w.set(settings.OwnAddress.Row, c.LocalAddrs.Value)
	w.set(settings.PeerAddress.Row, c.RemoteAddrs.Value)
	w.set(settings.IKEProposals.Row, c.Proposals.Value)
	w.set(settings.IKEv1Mode.Row, c.Aggressive.Value)
	w.set(settings.IKELifetime.Row, c.Rekey.Value)
	w.set(settings.Reauthentication.Row, c.Reauth.Value)
	w.set(settings.Liveness.Row, c.DPD.Value)
	w.set(settings.Encapsulation.Row, c.Encap.Value)
	w.party("local", strongswan.PathLocal, settings.OwnAuthentication.Row, settings.OwnIdentity.Row, &c.Local)
	w.party("remote", strongswan.PathRemote, settings.PeerAuthentication.Row, settings.PeerIdentity.Row, &c.Remote)
	w.open("children")
	for _, k := range c.Children {
		w.child(k)
	}
	w.close()
	w.close()
	w.close()
	if c.Remote.Method.Value == ike.PSK {
		w.open("secrets")
		w.open("ike-" + section(gateway))
		w.says("id-own", c.Local.Named())
		w.says("id-peer", c.Remote.Named())
		w.line("# secret = (the key of %s, handed over by another way)", gateway)
		w.close()
		w.close()
	}
	return w.b.String(), w.err
}

// section makes a name that may stand for a section.
func section(name string) string {
	return strings.Map(func(r rune) rune {
		if strings.ContainsRune(" \t.{}#:=\"'\\/,", r) || r < ' ' {
			return '-'
		}
		return r
	}, name)
}

type writer struct {
	b       strings.Builder
	indent  string
	of      daemon.Subject
	section *daemon.Section // that statements are written into
	err     error           // the first that occurred
}

func (w *writer) line(format string, args ...any) {
	w.b.WriteString(w.indent + strings.NewReplacer("\n", " ", "\r", " ").Replace(fmt.Sprintf(format, args...)) + "\n")
}

func (w *writer) open(name string) {
	w.line("%s {", name)
	w.indent += "  "
}

func (w *writer) close() {
	w.indent = w.indent[2:]
	w.line("}")
}

// in goes on with the keywords of a kind of section.
func (w *writer) in(path string) { w.section = strongswan.Known.Section("swanctl.conf", path) }

// set writes a statement that sets a setting; none where its value is zero.
func (w *writer) set(setting *settings.Row, value any) { w.by(w.section.Of(setting), value) }

func (w *writer) by(k *daemon.Keyword, value any) {
	if !reflect.ValueOf(value).IsZero() {
		w.write(k, value)
	}
}

func (w *writer) write(k *daemon.Keyword, value any) {
	text, err := k.Write(w.of, value)
	w.err = cmp.Or(w.err, err)
	w.says(k.Name(), text)
}

// says writes a statement; none where its value is empty.
func (w *writer) says(key, value string) {
	if value != "" {
		w.line("%s%s%s", key, w.section.Assigns, w.section.Quoted(value))
	}
}

// party writes how an end authenticates, in whatever of the two ways that another end can be told of.
func (w *writer) party(name, path string, method, id *settings.Row, p *model.Party) {
	w.open(name)
	w.in(path)
	if m := p.Method.Value; m == ike.PSK || m == ike.Certificate {
		w.by(w.section.Of(method), m)
	}
	w.says(w.section.Of(id).Name(), p.Named())
	w.close()
}

func (w *writer) child(k *model.Child) {
	w.open(section(k.Name))
	w.in(strongswan.PathChild)
	before := w.err
	if k.Protocol.Value == ike.AH {
		w.by(w.section.Named("ah_proposals"), k.Proposals.Value)
	} else {
		w.set(settings.ChildProposals.Row, k.Proposals.Value)
	}
	w.set(settings.OwnNetworks.Row, k.Local.Value)
	w.set(settings.PeerNetworks.Row, k.Remote.Value)
	w.set(settings.Mode.Row, k.Mode.Value)
	w.write(w.section.Of(settings.ChildLifetime.Row), k.Rekey.Value) // also that it is never renewed
	w.set(settings.ChildLifetimeBytes.Row, k.RekeyBytes.Value)
	w.set(settings.Cut96.Row, k.Cut96.Value)
	w.set(settings.InterfaceIn.Row, k.IfIDOut.Value)
	w.set(settings.InterfaceOut.Row, k.IfIDOut.Value)
	w.set(settings.MarkIn.Row, k.MarkOut.Value)
	w.set(settings.MarkOut.Row, k.MarkOut.Value)
	w.set(settings.Start.Row, model.StartTraffic)
	if before == nil && w.err != nil {
		w.err = fmt.Errorf("child %s: %w", k.Name, w.err)
	}
	w.close()
}
