package draft

import (
	"errors"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"toril/model/literal"
	"toril/model/settings"
	"toril/read/phrasebook"
	"toril/syntax/statements"
)

// mean guesses what forms mean, the inner ones first: they tell what the outer ones begin.
func (w *drafter) mean(forms []*Form) {
	for _, f := range forms {
		w.mean(f.Nested)
		if len(f.Nested) == 0 {
			w.wordsAlone(f)
		}
		around := strings.TrimSpace(f.path + " " + f.text)
		for _, s := range f.slots {
			w.slot(f, s, around)
		}
	}
}

func (f *Form) claim(what string, s slot, guess bool, why string) {
	for _, c := range f.Claims {
		if c.Value == "<"+s.name+">" || c.What == what {
			return
		}
	}
	f.Claims = append(f.Claims, Claim{what, "<" + s.name + ">", guess, why})
}

// phase says whether the words around are about the IKE SA or a child; sure is false where nothing tells.
func phase(around string) (child, sure bool) {
	if words := strings.Fields(around); len(words) > 1 { // the nearest word tells
		for i := len(words) - 1; i >= 0; i-- {
			if child, sure = phase(words[i]); sure {
				return child, true
			}
		}
		return has(around, "tunnel"), false
	}
	ike := has(around, "ike", "isakmp", "phase1", "phase-1", "stage1")
	esp := has(around, "esp", "ipsec", "child", "phase2", "phase-2", "lane", "selector")
	if esp != ike {
		return esp, true
	}
	return has(around, "tunnel"), false
}

// slot guesses what a value of a form is.
func (w *drafter) slot(f *Form, s slot, around string) {
	values := f.values(s)
	if len(values) == 0 {
		return
	}
	first := values[0]
	switch s.kind {
	case "secret":
		why, known := w.secret(first)
		if !known {
			why = "a word for a key stands before it"
		}
		f.claim("key.value", s, !known, why)
		if f.path != "" || len(f.slots) > 2 {
			f.constant(settings.OwnAuthentication.Name, "psk", "there is a key")
			f.constant(settings.PeerAuthentication.Name, "psk", "there is a key")
		}
	case "address":
		w.address(f, s, values, around)
	case "network", "masked", "prefix":
		w.network(f, s, values, around)
	case "identity":
		before := ""
		if s.at > 0 {
			before = strings.ToLower(f.tokens[0][s.at-1].Text)
		}
		list := w.hints.identities[strings.ToLower(first)]
		switch {
		case len(list) > 0 && one(list):
			f.claim(list[0].setting, s, false, list[0].why)
		case has(f.text, "host", "domain", "name-server"):
		case has(before, "src", "our", "own", "local", "we", "my"):
			f.claim(settings.OwnIdentity.Name, s, true, "a word for it")
		case has(before, "dst", "their", "peer", "remote", "they"):
			f.claim(settings.PeerIdentity.Name, s, true, "a word for it")
		}
	case "number":
		w.number(f, s, values, around)
	case "encryption", "integrity", "key-exchange", "prf":
		child, sure := phase(around)
		what := "ike."
		if child {
			what = "child."
		}
		if w.words[s.kind] == nil {
			w.words[s.kind] = map[string]string{}
		}
		for _, words := range f.tokens {
			for i := s.at; i < len(words) && w.kind(words, i) == s.kind; i++ {
				if _, iana, ok := algorithm(words[i].Text); ok && s.kind == "prf" {
					w.words[s.kind][words[i].Text] = prfOf(iana)
				} else if ok {
					w.words[s.kind][words[i].Text] = iana
				} else if iana, ok := group(words[i].Text); ok {
					w.words[s.kind][words[i].Text] = iana
				}
			}
		}
		f.claim(what+s.kind, s, !sure || w.apart(f), "a word for an algorithm")
		if s.kind == "integrity" && !child && !has(around, "prf") {
			f.Claims = append(f.Claims, Claim{what + "prf", "<" + s.name + ">", true, "the hash of the integrity algorithm"})
		}
	}
}

// apart reports whether a form stands where algorithms have a name, which connections may use for either SA.
func (w *drafter) apart(f *Form) bool {
	return !has(f.path, "peer", "partner", "far", "conn", "policy")
}

// constant claims a setting whose value the words themselves tell.
func (f *Form) constant(what, value, why string) {
	for _, c := range f.Claims {
		if c.What == what {
			return
		}
	}
	f.Claims = append(f.Claims, Claim{what, value, true, why})
}

// one reports whether hints agree on a setting.
func one(list []hint) bool {
	for _, h := range list {
		if h.setting != list[0].setting {
			return false
		}
	}
	return true
}

func (w *drafter) address(f *Form, s slot, values []string, around string) {
	before := ""
	if s.at > 0 {
		before = strings.ToLower(f.tokens[0][s.at-1].Text)
	}
	routes := w.isRoute(f, around)
	hits, hit, why := 0, "", ""
	for _, v := range values {
		a, err := netip.ParseAddr(v)
		if err != nil {
			return
		}
		if list := w.hints.addresses[a]; len(list) > 0 && one(list) {
			hits, hit, why = hits+1, list[0].setting, list[0].why
		}
	}
	switch {
	case f.text == "" && f.path != "":
		f.claim("network", s, true, "an address in a block that has a name")
	case has(around, "router", "ospf", "bgp", "neighbours") && has(around, "neighbor"):
		f.claim("routing.neighbor", s, false, "a peer of a routing protocol")
	case hits > 0 && !routes && !isRule(around):
		f.claim(hit, s, hits*2 < len(values) || hit == settings.OwnAddress.Name, why)
	case routes:
		f.claim("route.via", s, true, "a network and an address")
	case isRule(around):
		what := "rule.to"
		if has(before, "from", "src", "source") {
			what = "rule.from"
		}
		f.claim(what, s, true, "its words are those of a rule")
	case has(before, "peer", "remote") || has(around, "peer", "remote", "partner", "neighbor", "gateway", "far") &&
		!has(around, "router", "neighbours") &&
		!has(before, "local", "own", "source"):
		f.claim(settings.PeerAddress.Name, s, true, "its words are those of a peer")
	case has(before, "local", "own", "source"):
		f.claim(settings.OwnAddress.Name, s, true, "a word for it")
	}
}

// isRoute reports whether a form looks like a static route.
func (w *drafter) isRoute(f *Form, around string) bool {
	if has(around, "route", "way", "path", "reach") && !has(around, "router ", "router-", "away", "gateway ", "pathway") {
		return true
	}
	for _, words := range f.tokens {
		for _, word := range words {
			if word.Text == "0.0.0.0/0" && len(words) < 6 && hasAddress(words) {
				return true
			}
		}
	}
	return false
}

func hasAddress(words []statements.Word) bool {
	for _, w := range words {
		if _, err := netip.ParseAddr(w.Text); err == nil {
			return true
		}
	}
	return false
}

// isRule reports whether the words around are those of an access rule, or of a translation.
func isRule(around string) bool {
	return has(
		around,
		"permit",
		"deny",
		"pass ",
		"block",
		"drop",
		"accept",
		"allow",
		"stop",
		"refuse",
		"bar ",
		"rule",
		"gate",
		"filter",
		"guard",
		"admit",
		"hide",
		"spare",
		"translat",
		"nat ",
	)
}

// isInterface reports whether the words around are those of an interface.
func isInterface(around string) bool {
	return has(around, "interface", "port", "link", "socket", "ethernet", "passage", "nic")
}

func (w *drafter) network(f *Form, s slot, values []string, around string) {
	hits, hit, why := map[string]int{}, "", ""
	own := 0
	for i, v := range values {
		p, err := netip.ParsePrefix(v)
		if err != nil && s.kind == "masked" && s.at+1 < len(f.tokens[i]) {
			p, err = masked(v, f.tokens[i][s.at+1].Text)
		}
		if err != nil {
			return
		}
		if p != p.Masked() {
			own++
		}
		if list := w.hints.networks[p.Masked()]; len(list) > 0 && one(list) {
			hits[list[0].setting]++
			hit, why = list[0].setting, list[0].why
		}
	}
	switch {
	case own == len(values) && (isInterface(around) || s.kind == "prefix"):
		f.claim("interface.address", s, !isInterface(around), "an address in its network")
	case w.isRoute(f, around):
		f.claim("route.to", s, !has(around, "route"), "a network and an address, or an interface")
	case has(around, "router", "ospf", "bgp", "rip", "neighbours") && has(around, "network", "tell", "prefix"):
		f.claim("routing.network", s, false, "a network of a routing protocol")
	case !isRule(around) && has(f.text, "from", "local", "own") && has(f.text, "to", "remote") && len(hits) == 0 && !isInterface(around):
		what := settings.PeerNetworks.Name
		if s.at == firstNetwork(f) {
			what = settings.OwnNetworks.Name
		}
		f.claim(what, s, true, "words for it")
	case isRule(around):
		what := "rule.to"
		if s.at == firstNetwork(f) && !slices.Contains([]string{"to", "dst", "dest", "destination"}, lastWord(f.text)) {
			what = "rule.from"
		}
		f.claim(what, s, true, "its words are those of a rule")
	case len(hits) == 1 && inTunnel(around):
		f.claim(hit, s, false, why)
	case len(hits) > 0:
		f.claim("network", s, true, "networks with a name: "+why)
	}
}

func lastWord(text string) string { return text[strings.LastIndexByte(text, ' ')+1:] }

// inTunnel reports whether the words around are those of what a tunnel protects.
func inTunnel(around string) bool {
	return has(around, "local", "remote", "ours", "theirs", "peer", "partner", "far ", "tunnel", "carry", "protect", "from", "selector")
}

// masked is an address with the mask of its network.
func masked(addr, mask string) (netip.Prefix, error) {
	a, err := netip.ParseAddr(addr)
	if err != nil {
		return netip.Prefix{}, err
	}
	m, err := netip.ParseAddr(mask)
	if err != nil {
		return netip.Prefix{}, err
	}
	bits, ok := literal.MaskBits(m)
	if !ok || m.BitLen() != a.BitLen() || phrasebook.KindOf(statements.Word{Text: mask}) != "mask" {
		return netip.Prefix{}, errNoMask
	}
	return netip.PrefixFrom(a, bits), nil
}

var errNoMask = errors.New("it is no mask")

func firstNetwork(f *Form) int {
	for _, s := range f.slots {
		if s.kind == "network" || s.kind == "masked" || s.kind == "address" {
			return s.at
		}
	}
	return -1
}

func (w *drafter) number(f *Form, s slot, values []string, around string) {
	before := ""
	if s.at > 0 {
		before = strings.ToLower(f.tokens[0][s.at-1].Text)
	}
	child, sure := phase(around)
	which := "ike"
	if child {
		which = "child"
	}
	all := true
	for _, v := range values {
		all = all && isGroup(v)
	}
	switch {
	case w.isRoute(f, around):
		f.claim("route.metric", s, true, "a number beside a route")
	case all && has(f.text, "group", "dh", "pfs", "secrecy"):
		if has(around, "secrecy", "pfs", "forward") {
			which, sure = "child", true
		}
		f.claim(which+".group", s, !sure || w.apart(f), "the number of a group, or its bits")
	case has(f.text, "liveness", "alive", "dpd", "dead", "keepalive", "keep-alive"):
		f.claim("liveness-check/seconds", s, true, "a word for it")
	case has(f.text, "life", "renew", "rekey", "expire", "valid") || has(before, "hours", "minutes", "seconds") ||
		has(f.text, "hours", "minutes", "seconds") && !has(f.text, "timeout"):
		unit, known := unit(f.text, values[0])
		n, _ := strconv.Atoi(values[0])
		for _, u := range spans {
			if u.unit != unit {
				continue
			}
			if list := w.hints.times[time.Duration(n)*u.span]; len(list) > 0 && one(list) && !sure {
				f.claim(list[0].setting+"/"+unit, s, true, list[0].why)
			}
		}
		f.claim(which+"-lifetime/"+unit, s, !sure || !known, "a word for a lifetime")
	case w.spanOf(f, s, values[0]):
	case has(f.text, "version") && has(around, "ike") && (values[0] == "1" || values[0] == "2"):
		f.claim(settings.IKEVersion.Name, s, false, "a version of IKE")
	case has(before, "port") && isRule(around):
		f.claim("rule.ports", s, true, "a port")
	}
}

// named is what has a name, by what its statements say.
type named struct {
	kind     string // as of objects of phrasebooks
	networks []netip.Prefix
	names    []string // of others that it refers to
}

// spanOf claims a time that a far end is configured to, whatever the words are.
func (w *drafter) spanOf(f *Form, s slot, value string) bool {
	n, err := strconv.Atoi(value)
	if err != nil || n < 2 {
		return false
	}
	for _, u := range spans {
		if list := w.hints.times[time.Duration(n)*u.span]; len(list) > 0 && one(list) {
			f.claim(list[0].setting+"/"+u.unit, s, true, list[0].why)
			return true
		}
	}
	return false
}

// objects finds blocks that give networks, proposals or settings a name, for use elsewhere.
func (w *drafter) objects(forms []*Form, inside bool) {
	for _, f := range forms {
		inner := says(f)
		connection := inside || inner[settings.PeerAddress.Name] || inner[settings.PeerIdentity.Name] || inner["key.value"]
		for _, c := range f.Claims {
			connection = connection || c.What == settings.PeerAddress.Name
		}
		var kind string
		switch {
		case inside || len(f.Nested) == 0 || inner[settings.PeerAddress.Name] || inner[settings.PeerIdentity.Name] || inner["key.value"] ||
			inner["interface.address"]:
		case inner["network"] && !inner["rule.from"] && !inner["rule.to"]:
			kind = "networks"
		case algorithms(inner) && !lifetimes(inner) && !w.sub(f) && !has(f.path, "suite", "recipe", "agreement", "profile"):
			kind = "proposals"
		case algorithms(inner) && lifetimes(inner) && !w.sub(f):
			kind = "settings"
		}
		if kind != "" {
			w.title(f)
		}
		if kind != "" && f.Named != "" {
			f.Makes, f.Kind = "object", kind
			w.keep(f)
			w.turn(f)
			continue
		}
		w.objects(f.Nested, connection)
	}
}

// sub reports whether a form only divides what stands around it: its statements have no name.
func (w *drafter) sub(f *Form) bool { return len(f.slots) == 0 && !titled(f) }

// titled reports whether the statements of a form are named by statements within.
func titled(f *Form) bool {
	for _, n := range f.Nested {
		if len(n.tokens) == len(f.tokens) && len(n.tokens[0]) == 2 {
			for _, word := range naming {
				if strings.EqualFold(n.tokens[0][0].Text, word) {
					return true
				}
			}
		}
	}
	return false
}

func algorithms(what map[string]bool) bool {
	for w := range what {
		if strings.HasSuffix(w, ".encryption") || strings.HasSuffix(w, ".integrity") || strings.HasSuffix(w, ".group") {
			return true
		}
	}
	return false
}

func lifetimes(what map[string]bool) bool {
	for w := range what {
		if strings.Contains(w, "-lifetime") || w == settings.IKEVersion.Name {
			return true
		}
	}
	return false
}

// says is all that the forms within one claim.
func says(f *Form) map[string]bool {
	out := map[string]bool{}
	var collect func(forms []*Form, deep int)
	collect = func(forms []*Form, deep int) {
		for _, n := range forms {
			for _, c := range n.Claims {
				out[c.What] = true
			}
			if n.Makes == "" && deep < 3 {
				collect(n.Nested, deep+1)
			}
		}
	}
	collect(f.Nested, 0)
	return out
}

// keep remembers what the statements of a form give names.
func (w *drafter) keep(f *Form) {
	for i, words := range f.tokens {
		name := ""
		for _, s := range f.slots {
			if "<"+s.name+">" == f.Named && s.at < len(words) {
				name = words[s.at].Text
			}
		}
		st := f.whose[i]
		if name == "" {
			for _, in := range st.Nested {
				if len(in.Words) == 2 && strings.EqualFold(in.Words[0].Text, f.Named) {
					name = in.Words[1].Text
				}
			}
		}
		o := w.named[name]
		if o == nil {
			o = &named{kind: f.Kind}
			w.named[name] = o
		}
		for _, in := range st.Nested {
			for k, word := range in.Words {
				p, err := netip.ParsePrefix(word.Text)
				if err != nil && k+1 < len(in.Words) {
					p, err = masked(word.Text, in.Words[k+1].Text)
				}
				if err == nil && p.IsValid() {
					o.networks = append(o.networks, p.Masked())
				} else if k > 0 {
					o.names = append(o.names, word.Text)
				}
			}
		}
	}
}

// turn makes the claims of an object those of an object.
func (w *drafter) turn(f *Form) {
	for _, n := range f.Nested {
		var out []Claim
		for _, c := range n.Claims {
			phase, part, dotted := strings.Cut(c.What, ".")
			switch {
			case f.Kind == "proposals" && dotted && (phase == "ike" || phase == "child"):
				c.What, c.Guess = "object."+part, true
			case f.Kind == "proposals" || f.Kind == "networks" && c.What != "network":
				continue
			}
			out = append(out, c)
		}
		n.Claims = out
		w.turn(&Form{Kind: f.Kind, Nested: n.Nested})
		if f.Kind != "networks" {
			continue
		}
		for _, s := range n.slots { // what stands in it is a network of it, whatever the hints knew
			if s.kind == "name" && w.all(n.values(s), "networks") || s.kind == "address" || s.kind == "network" || s.kind == "masked" {
				n.claim("network", s, s.kind == "name", "it stands in networks that have a name")
			}
		}
	}
}

// all reports whether all words are names of a kind.
func (w *drafter) all(words []string, kind string) bool {
	for _, v := range words {
		if o := w.named[v]; o == nil || o.kind != kind {
			return false
		}
	}
	return len(words) > 0
}

// stands are the networks that a name stands for.
func (w *drafter) stands(name string, deep int) (out []netip.Prefix) {
	o := w.named[name]
	if o == nil || deep > 8 {
		return nil
	}
	out = append(out, o.networks...)
	for _, n := range o.names {
		if n != name {
			out = append(out, w.stands(n, deep+1)...)
		}
	}
	return out
}

// wordsAlone guesses what forms mean whose words tell all.
func (w *drafter) wordsAlone(f *Form) {
	around := strings.TrimSpace(f.path + " " + f.text)
	words := strings.Fields(f.text)
	if len(words) == 0 {
		return
	}
	last := words[len(words)-1]
	switch {
	case has(around, "router", "ospf", "bgp") && words[0] == "redistribute" && len(words) == 2:
		f.Claims = append(f.Claims, Claim{"routing.redistribute", last, false, "an origin of routes"})
	case has(f.text, "version") && has(around, "ike"):
		if v := map[string]string{"1": "ikev1", "one": "ikev1", "ikev1": "ikev1", "2": "ikev2", "two": "ikev2", "ikev2": "ikev2",
			"both": "both", "either": "both"}[last]; v != "" {
			f.constant(settings.IKEVersion.Name, v, "a word for it")
		}
	case f.path == "" || isRule(around) || len(f.slots) > 0 || len(words) > 3:
	case has(f.text, "passive", "wait", "answer", "respond") && !has(around, "router", "interface"):
		f.constant("start", "waits", "a word for it")
	case has(f.text, "active", "initiat", "call", "starting"):
		f.constant("start", "start", "a word for it")
	}
}

// refer finds what refers to names.
func (w *drafter) refer(forms []*Form) {
	for _, f := range forms {
		around := strings.TrimSpace(f.path + " " + f.text)
		for _, s := range f.slots {
			if s.kind != "name" || f.Makes != "" || isRule(around) {
				continue
			}
			values := f.values(s)
			switch {
			case w.isRoute(f, around):
				f.claim("route.device", s, true, "a name beside a route")
			case w.all(values, "interface") && f.path != "" && len(f.Nested) == 0 &&
				!has(around, "router", "ospf", "bgp", "area", "zone", "side"):
				f.claim(settings.OwnAddress.Name, s, true, "the name of an interface")
			case w.all(values, "networks"):
				w.side(f, s, values, around)
			case w.all(values, "proposals"):
				child, sure := phase(f.text)
				what := settings.IKEProposals.Name
				if child {
					what = settings.ChildProposals.Name
				}
				f.claim(what, s, !sure, "the name of proposals")
			case w.all(values, "settings"):
				f.claim("uses", s, true, "the name of settings")
			}
		}
		w.refer(f.Nested)
	}
}

// side tells whose networks those of a name are, by what the far ends say.
func (w *drafter) side(f *Form, s slot, values []string, around string) {
	if has(f.path, "place", "network", "object") || !inTunnel(around) || f.path == "" || len(f.Nested) > 0 || isInterface(around) {
		return
	}
	hits, hit, why := map[string]bool{}, "", ""
	for _, v := range values {
		for _, p := range w.stands(v, 0) {
			if list := w.hints.networks[p]; len(list) > 0 && one(list) {
				hits[list[0].setting] = true
				hit, why = list[0].setting, list[0].why
			}
		}
	}
	switch {
	case len(hits) == 1:
		f.claim(hit, s, false, why)
	case has(f.text, "ours", "local", "own"):
		f.claim(settings.OwnNetworks.Name, s, true, "a word for it")
	case has(f.text, "theirs", "remote", "peer"):
		f.claim(settings.PeerNetworks.Name, s, true, "a word for it")
	}
}

// begin guesses what forms begin.
func (w *drafter) begin(forms []*Form) {
	for _, f := range forms {
		w.begin(f.Nested)
		inner := says(f)
		protocol := ""
		for _, word := range strings.Fields(f.text) {
			if slices.Contains(protocols, word) {
				protocol = word
			}
		}
		rules := inner["rule.from"] || inner["rule.to"] || inner["rule.ports"]
		switch {
		case f.Makes != "":
		case len(f.Nested) == 0:
			w.action(f)
		case inner["route.to"] && len(f.slots) == 0:
			f.Makes = "route"
			f.inside(f.Makes)
			continue
		case protocol != "" && (inner["routing.network"] || inner["routing.neighbor"] || inner["routing.redistribute"]):
			f.Makes, f.Kind = "routing", protocol
			f.inside(f.Makes)
			continue
		case rules && isRule(" "+f.text+" "):
			f.Makes = "rule"
			f.inside(f.Makes)
			continue
		case inner[settings.PeerAddress.Name] || inner[settings.PeerIdentity.Name]:
			f.Makes = "connection"
		case inner["interface.address"] && isInterface(f.text):
			f.Makes = "interface"
		case inner[settings.OwnNetworks.Name] || inner[settings.PeerNetworks.Name]:
			f.Makes = "child"
		}
		if f.Makes != "" && f.Named == "" {
			w.title(f)
		}
	}
}

// inside tells the forms within what they stand in.
func (f *Form) inside(what string) {
	for _, n := range f.Nested {
		n.within = what
		if n.Makes == "" {
			n.inside(what)
		}
	}
}

// ports remembers the names of interfaces.
func (w *drafter) ports(forms []*Form) {
	for _, f := range forms {
		if says(f)["interface.address"] && isInterface(f.text) {
			w.title(f)
			f.Makes, f.Kind = "interface", "interface"
			w.keep(f)
			f.Kind = ""
			continue
		}
		w.ports(f.Nested)
	}
}

// action guesses the action of what looks like a rule.
func (w *drafter) action(f *Form) {
	if !isRule(" "+f.text+" ") || w.isRoute(f, f.text) || len(f.slots) == 0 {
		return
	}
	if action := actionOf(f.text); action != "" {
		f.Claims = append(f.Claims, Claim{"rule.action", action, true, "a word for it"})
	}
}

// title finds what names the thing that a form begins.
func (w *drafter) title(f *Form) {
	for _, s := range f.slots {
		if s.kind == "name" || s.kind == "identity" {
			f.Named = "<" + s.name + ">"
			return
		}
	}
	for _, n := range f.Nested {
		if len(n.tokens) == len(f.tokens) && len(n.tokens[0]) == 2 {
			for _, word := range naming {
				if strings.EqualFold(n.tokens[0][0].Text, word) {
					f.Named = word
				}
			}
		}
	}
}

// actionOf is the action of a rule by its words.
func actionOf(text string) string {
	switch {
	case has(text, "deny", "drop", "block", "stop", "bar"):
		return "drop"
	case has(text, "refuse", "reject"):
		return "reject"
	case has(text, "permit", "pass", "accept", "allow", "admit"):
		return "accept"
	}
	return ""
}
