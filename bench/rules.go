package main

import (
	"fmt"
	"math/rand/v2"
	"os/exec"
	"strings"
)

// made is a rule of a long chain, in no program's words.
type made struct {
	from, to string
	port     int
	accept   bool
}

func (m made) verb() string {
	if m.accept {
		return "accept"
	}
	return "drop"
}

// manyRules makes a chain of n rules: such that overlap at random, or such that never do.
func manyRules(n int, overlap bool) []made {
	r := rand.New(rand.NewPCG(20261127, 1))
	address := func(a uint32) string { return fmt.Sprintf("%d.%d.%d.%d", a>>24, a>>16&255, a>>8&255, a&255) }
	out := make([]made, n)
	for i := range out {
		m := made{port: 1000 + i%1000, accept: r.IntN(2) == 0}
		if overlap {
			from, to := 16+r.IntN(17), 16+r.IntN(9)
			m.from = fmt.Sprintf("%s/%d", address((10<<24|r.Uint32N(1<<24))>>(32-from)<<(32-from)), from)
			m.to = fmt.Sprintf("%s/%d", address((172<<24|16<<16|r.Uint32N(1<<20))>>(32-to)<<(32-to)), to)
			m.port = []int{22, 80, 443, 5432, 8080}[r.IntN(5)]
		} else {
			m.from = address(10<<24|uint32(i)<<6) + "/26"
			m.to = address(172<<24|16<<16|uint32(i%4096)<<8) + "/24"
		}
		out[i] = m
	}
	return out
}

func inNFT(rules []made) string {
	var b strings.Builder
	b.WriteString("table inet filter {\n\tchain forward {\n\t\ttype filter hook forward priority filter; policy drop;\n")
	for _, m := range rules {
		fmt.Fprintf(&b, "\t\tip saddr %s ip daddr %s tcp dport %d %s\n", m.from, m.to, m.port, m.verb())
	}
	return b.String() + "\t}\n}\n"
}

func inIPTables(rules []made) string {
	var b strings.Builder
	b.WriteString("*filter\n:INPUT ACCEPT [0:0]\n:FORWARD DROP [0:0]\n:OUTPUT ACCEPT [0:0]\n")
	for _, m := range rules {
		verb := strings.ToUpper(m.verb())
		fmt.Fprintf(&b, "-A FORWARD -s %s -d %s -p tcp -m tcp --dport %d -j %s\n", m.from, m.to, m.port, verb)
	}
	return b.String() + "COMMIT\n"
}

// rules is one gateway with a very long chain, beside the program that loads it, which only looks at it here.
func rules(b *bench) ([]line, error) {
	n, rounds := 100_000, 3
	if b.small {
		return growth(b, "a chain of rules that overlap at random", []int{2000, 4000, 8000}, func(n int) (string, error) {
			return b.write(fmt.Sprintf("chain%d/g/nftables.conf", n), inNFT(manyRules(n, true)))
		})
	}
	var out []line
	for _, kind := range []struct {
		name, file string
		text       func([]made) string
		beside     func(path string) job
	}{
		{"nft", "nftables.conf", inNFT, func(path string) job { return job{"nft", "-c", "-f", path} }},
		{"iptables-restore", "iptables-save.txt", inIPTables, func(path string) job { return job{"iptables-restore", "--test", path} }},
	} {
		for _, overlap := range []bool{true, false} {
			how := "without overlaps"
			if overlap {
				how = "that overlap at random"
			}
			work := fmt.Sprintf("audit of %d rules %s, beside %s", n, how, kind.name)
			if _, err := exec.LookPath(kind.name); err != nil {
				continue
			}
			dir, err := b.write(fmt.Sprintf("rules-%s-%t/g/%s", kind.name, overlap, kind.file), kind.text(manyRules(n, overlap)))
			if err != nil {
				return nil, err
			}
			c, err := sideBySide(rounds, job{b.toril, "audit", dir}, kind.beside(dir+"/g/"+kind.file))
			if err != nil {
				return nil, err
			}
			out = append(out, line{work, ratio(c[0], c[1]), 0.1, both(c[0], c[1])}, memoryOf(work, c[0], 512))
		}
	}
	return out, nil
}

// growth audits work of sizes that double, and holds each against the one before it.
func growth(b *bench, work string, sizes []int, make func(int) (string, error)) ([]line, error) {
	var jobs []job
	for _, n := range sizes {
		dir, err := make(n)
		if err != nil {
			return nil, err
		}
		jobs = append(jobs, b.audit(dir))
	}
	c, err := sideBySide(5, jobs...)
	if err != nil {
		return nil, err
	}
	var out []line
	for i := 1; i < len(sizes); i++ {
		what := fmt.Sprintf("%s: %d beside %d", work, sizes[i], sizes[i-1])
		out = append(out, line{what, ratio(c[i], c[i-1]), b.grown(float64(sizes[i]) / float64(sizes[i-1])), both(c[i], c[i-1])})
	}
	return out, nil
}
