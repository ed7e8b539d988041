package cli

import (
	"fmt"
	"slices"

	"github.com/spf13/cobra"

	"toril/follow"
	"toril/model"
	"toril/pair"
	"toril/report"
)

// follow: it is long as a command is: its help, its flags, and one call.
func (a *app) follow() *cobra.Command {
	var form *formFlag
	var at, from, to, protocol, in string
	var down bool
	cmd := &cobra.Command{
		Use:   "follow PATH... --gateway NAME --from ADDRESS[:PORT] --to ADDRESS[:PORT]",
		Short: "Follow a packet, or every packet of a set, through a gateway, its tunnel and the far gateway, and the reply back",
		Long: "Shows for one packet, or for all packets of two networks, which rules they match and where they end:\n" +
			"encrypted in which child, in the clear, delivered or dropped; " +
			"then what the far gateway does with them, and where the reply goes.\n" +
			"Diverging paths are shown separately, each with an example. Every child counts as up unless --tunnel-down is " +
			"given.\n\n" +
			"Exit code: 0 the question was answered, 1 a file could not be read, 2 wrong usage.",
		Example: "  toril follow estate --gateway lampwright --from 10.10.0.10 --to 10.40.0.9:443\n" +
			"  toril follow estate --gateway lampwright --from 10.10.0.0/24 --to 10.40.0.0/24 --tunnel-down",
		Args: paths(),
		RunE: func(cmd *cobra.Command, args []string) error {
			as, err := form.form()
			if err != nil {
				return err
			}
			for _, f := range []string{"from", "to"} {
				if cmd.Flags().Lookup(f).Value.String() == "" {
					return fmt.Errorf("%s needs --%s: for example %s", cmd.CommandPath(), f, example(cmd))
				}
			}
			q, err := question(from, to, protocol)
			if err != nil {
				return err
			}
			a.gateway = at
			if a.gateway == "" {
				a.gateway = "stdin"
			}
			e, err := a.whole(cmd, args)
			if err != nil {
				return err
			}
			if q.Gateway, err = pickGateway(e, at); err != nil {
				return err
			}
			q.In, q.Down = in, down
			if err := hasInterface(q.Gateway, in); err != nil {
				return err
			}
			trips, err := follow.Ask(e, q)
			if err != nil {
				return err
			}
			asked := report.Asked{Gateway: q.Gateway.Name, From: from, To: to, Protocol: protocol, Down: down}
			err = as.Follow(a.out, e, asked, trips, report.Options{Look: a.look})
			if err == nil && len(e.Problems) > 0 {
				err = exit(exitFindings)
			}
			return err
		},
	}
	f := cmd.Flags()
	form = addForm(cmd, "", func(f report.Form) bool { return f.Follow != nil })
	f.StringVar(&at, "gateway", "", "gateway that receives the packets; also the name of what comes on standard input")
	f.StringVar(&from, "from", "", "source: an address or a network, with or without a port")
	f.StringVar(&to, "to", "", "destination, likewise")
	f.StringVar(&protocol, "protocol", "", "tcp, udp, icmp (an echo request), another name or a number (default: any, with a port tcp)")
	f.StringVar(&in, "in", "", "interface that the packets come in on (default: the one that their source is routed to)")
	f.BoolVar(&down, "tunnel-down", false, "no child has an SA")
	f.BoolVar(&a.open, "show-unread", false, "show in quotes what was not understood, and comments: they may hold secrets")
	f.StringVar(&a.as, "as", "", "format of what comes on standard input, where a PATH is \"-\" (see: toril formats)")
	a.dated(cmd)
	return a.withBooks(cmd)
}

func question(from, to, protocol string) (q follow.Question, err error) {
	src, err := follow.ParsePlace(from)
	if err != nil {
		return q, fmt.Errorf("--from: %w", err)
	}
	dst, err := follow.ParsePlace(to)
	if err != nil {
		return q, fmt.Errorf("--to: %w", err)
	}
	q.Packets, err = follow.Packets(src, dst, protocol)
	return q, err
}

// pickGateway finds a gateway by name; of an estate with one, the name may be left out.
func pickGateway(e *pair.Whole, name string) (*model.Gateway, error) {
	if name == "" && len(e.Gateways) == 1 {
		return e.Gateways[0], nil
	}
	var names []string
	for _, g := range e.Gateways {
		names = append(names, g.Name)
	}
	if name == "" {
		return nil, fmt.Errorf("--gateway is needed: the packets come to one of %v", names)
	}
	if g := e.Gateway(name); g != nil {
		return g, nil
	}
	return nil, missing("gateway", name, names)
}

// hasInterface refuses an interface that the gateway's files, which tell its interfaces, do not have.
func hasInterface(g *model.Gateway, name string) error {
	var names []string
	for _, i := range g.Interfaces {
		names = append(names, i.Name)
	}
	if name == "" || len(names) == 0 || slices.Contains(names, name) {
		return nil
	}
	return missing("interface", name, names)
}
