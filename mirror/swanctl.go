package mirror

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"toril/daemon/strongswan"
	"toril/ike"
	"toril/model"
)

// Swanctl writes the far end of a connection as a swanctl.conf. Read back, it agrees with the end that it was made from.
// The pre-shared key is left for people to fill in.
func Swanctl(s Sheet) (string, error) {
	c, gateway := s.Far, s.For.Gateway.Name
	if len(c.LocalAddrs.Value) == 0 && len(c.RemoteAddrs.Value) == 0 {
		return "", fmt.Errorf("%s names neither its own nor its peer's address; there is nothing to mirror", s.For.Name())
	}
	w := &writer{}
	w.line("# far end of %s; made by toril mirror", s.For.Name())
	for _, o := range s.Open {
		w.line("# to settle: %s", o)
	}
	w.open("connections")
	w.open(section(gateway))
	w.set("version", fmt.Sprint(uint8(c.Version.Value)))
	w.set("local_addrs", c.LocalAddrs.Value.String())
	w.set("remote_addrs", c.RemoteAddrs.Value.String())
	proposals, err := written(c.Proposals.Value)
	if err != nil {
		return "", err
	}
	w.set("proposals", proposals)
	if c.Aggressive.Value {
		w.set("aggressive", "yes")
	}
	if c.Rekey.Value > 0 {
		w.set("rekey_time", seconds(c.Rekey.Value))
	}
	if c.Reauth.Value > 0 {
		w.set("reauth_time", seconds(c.Reauth.Value))
	}
	if c.DPD.Value > 0 {
		w.set("dpd_delay", seconds(c.DPD.Value))
	}
	if c.Encap.Value {
		w.set("encap", "yes")
	}
	auth := map[ike.Method]string{ike.PSK: "psk", ike.Certificate: "pubkey"}
	w.open("local")
	w.set("auth", auth[c.Local.Method.Value])
	w.set("id", c.Local.Named())
	w.close()
	w.open("remote")
	w.set("auth", auth[c.Remote.Method.Value])
	w.set("id", c.Remote.Named())
	w.close()
	w.open("children")
	for _, k := range c.Children {
		if err := w.child(k); err != nil {
			return "", err
		}
	}
	w.close()
	w.close()
	w.close()
	if c.Remote.Method.Value == ike.PSK {
		w.open("secrets")
		w.open("ike-" + section(gateway))
		w.set("id-own", c.Local.Named())
		w.set("id-peer", c.Remote.Named())
		w.line("# secret = (the key of %s, handed over by another way)", gateway)
		w.close()
		w.close()
	}
	return w.b.String(), nil
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

func seconds(d time.Duration) string { return fmt.Sprintf("%d", int(d.Seconds())) }

type writer struct {
	b      strings.Builder
	indent string
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

// set writes a value, in quotation marks where it needs them; none where it is empty.
func (w *writer) set(key, value string) {
	switch {
	case value == "":
	case strings.ContainsAny(value, " #{}\"="):
		w.line("%s = \"%s\"", key, strings.ReplaceAll(value, `"`, `\"`))
	default:
		w.line("%s = %s", key, value)
	}
}

func (w *writer) child(k *model.Child) error {
	w.open(section(k.Name))
	proposals, err := written(k.Proposals.Value)
	if err != nil {
		return fmt.Errorf("child %s: %w", k.Name, err)
	}
	w.set(map[bool]string{true: "ah_proposals", false: "esp_proposals"}[k.Protocol.Value == ike.AH], proposals)
	w.set("local_ts", selectors(k.Local.Value))
	w.set("remote_ts", selectors(k.Remote.Value))
	if k.Mode.Value != ike.Tunnel {
		w.set("mode", k.Mode.Value.String())
	}
	w.set("rekey_time", seconds(k.Rekey.Value))
	if k.RekeyBytes.Value > 0 {
		w.set("rekey_bytes", fmt.Sprint(k.RekeyBytes.Value))
	}
	if k.Cut96.Value {
		w.set("sha256_96", "yes")
	}
	if id := k.IfIDOut.Value; id != 0 {
		w.set("if_id_in", fmt.Sprint(id))
		w.set("if_id_out", fmt.Sprint(id))
	}
	if mark := k.MarkOut.Value; mark != "" {
		w.set("mark_in", mark)
		w.set("mark_out", mark)
	}
	w.set("start_action", "trap")
	w.close()
	return nil
}

// selectors writes traffic selectors as swanctl.conf does.
func selectors(ss ike.Selectors) string {
	var out []string
	for _, s := range ss {
		text := "dynamic"
		if !s.Dynamic {
			text = s.Lo.String() + "-" + s.Hi.String()
			if a := s.Addresses(); !strings.Contains(a, "-") {
				text = a
			}
		}
		switch {
		case s.Proto == 0 && s.AllPorts():
		case s.AllPorts():
			text += fmt.Sprintf("[%d]", s.Proto)
		case s.LoPort == s.HiPort:
			text += fmt.Sprintf("[%s/%d]", proto(s.Proto), s.LoPort)
		default:
			text += fmt.Sprintf("[%s/%d-%d]", proto(s.Proto), s.LoPort, s.HiPort)
		}
		out = append(out, text)
	}
	return strings.Join(out, ", ")
}

func proto(n uint8) string {
	if n == 0 {
		return ""
	}
	return fmt.Sprint(n)
}

// written writes proposals with the daemon's keywords.
func written(ps []ike.Proposal) (string, error) {
	var out []string
	for _, p := range ps {
		text, err := strongswan.Write(p)
		if err != nil {
			return "", err
		}
		if !slices.Contains(out, text) {
			out = append(out, text)
		}
	}
	return strings.Join(out, ", "), nil
}
