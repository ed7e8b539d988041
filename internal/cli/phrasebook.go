package cli

import (
	"encoding/json"
	"fmt"
	"path/filepath"

	"github.com/spf13/cobra"

	"toril/estate"
	"toril/internal/disk"
	"toril/model"
	"toril/present"
	"toril/read/phrasebook"
	"toril/read/phrasebook/draft"
	"toril/report/text"
	"toril/source"
)

func (a *app) phrasebook() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "phrasebook",
		Short: "Write, try and test phrasebooks: how Toril learns a device language",
		Long: "A phrasebook is a YAML file that says what the statements of a device's saved configuration mean.\n" +
			"With one, files of that language are audited, followed, mirrored and compared like all others.\n" +
			"Phrasebooks are found in the toril.yaml of an estate (phrasebooks: [FILE]), by --phrasebook, and in\n" +
			"the folder " + booksFolder + " of your configuration.",
		Args: noArgs,
		RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}
	cmd.AddCommand(a.bookTest(), a.bookTry(), a.bookDraft(), a.bookShow(), a.bookCheck(), a.bookSchema())
	return cmd
}

func (a *app) bookTest() *cobra.Command {
	return &cobra.Command{
		Use:     "test FILE...",
		Short:   "Run a phrasebook's examples, and show what is not found as they say",
		Example: "  toril phrasebook test estate/phrasebooks/wharfgate.yaml",
		Args:    atLeast("FILE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			wrong := false
			for _, name := range args {
				b, err := openBook(name)
				if err != nil {
					return err
				}
				found := b.Test(cmd.Context())
				if err := text.BookTest(a.out, name, b, found, a.look); err != nil {
					return err
				}
				wrong = wrong || len(found) > 0
			}
			if wrong {
				return exit(exitFindings)
			}
			return nil
		},
	}
}

func (a *app) bookTry() *cobra.Command {
	return &cobra.Command{
		Use:   "try FILE SAMPLE...",
		Short: "Read saved configurations by a phrasebook: what is found, and which statements no phrase fits",
		Long: "Shows every fact with the line that says it. Statements that no phrase fits are grouped by form, the most consequential\n" +
			"first: work down the list. Words that may be secrets are not shown.",
		Example: "  toril phrasebook try estate/phrasebooks/wharfgate.yaml estate/fogbank/fogbank.wharfgate",
		Args:    atLeast("FILE", "SAMPLE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			b, err := openBook(args[0])
			if err != nil {
				return err
			}
			missed := false
			for _, name := range args[1:] {
				file, err := sample(name)
				if err != nil {
					return err
				}
				t := b.Try(cmd.Context(), file)
				if err := text.BookTry(a.out, b, t, a.look); err != nil {
					return err
				}
				missed = missed || len(t.Missed)+len(t.Doubts)+len(t.Problems) > 0
			}
			if missed {
				return exit(exitFindings)
			}
			return nil
		},
	}
}

// sample opens a saved configuration by itself.
func sample(name string) (*source.File, error) {
	data, err := disk.ReadFile(name, estate.MaxFile)
	if err != nil {
		return nil, fmt.Errorf("%s cannot be read: %w", name, err)
	}
	return source.NewFile(filepath.ToSlash(name), data), nil
}

func (a *app) bookDraft() *cobra.Command {
	var beside []string
	var language string
	cmd := &cobra.Command{
		Use:   "draft SAMPLE...",
		Short: "Draft a phrasebook from saved configurations in an unknown language",
		Long: "Recognises the syntax, groups the statements by form, and guesses what they mean: from their words and\n" +
			"values, and from the far ends of the device's tunnels, where --estate has them: what these are configured\n" +
			"to says what must stand here. What rests on words alone is marked as a guess. The draft is written to standard output.",
		Example: "  toril phrasebook draft estate/fogbank/fogbank.wharfgate --estate estate/ > fogbank.yaml",
		Args:    atLeast("SAMPLE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			var files []*source.File
			for _, name := range args {
				f, err := sample(name)
				if err != nil {
					return err
				}
				files = append(files, f)
			}
			var known []*model.Gateway
			if len(beside) > 0 {
				e, err := a.whole(cmd, beside)
				if err != nil {
					return err
				}
				known = e.Gateways
			}
			return draft.Write(a.out, draft.Of(files, known, language))
		},
	}
	cmd.Flags().
		StringArrayVar(&beside, "estate", nil, "folder or files with the far ends of the device's tunnels; may be given several times")
	cmd.Flags().StringVar(&language, "language", "draft", "name of the language")
	return cmd
}

func (a *app) bookShow() *cobra.Command {
	return &cobra.Command{
		Use:     "show FILE",
		Short:   "Show a phrasebook as tables: its phrases, its words, its defaults, the order in which the device works",
		Example: "  toril phrasebook show estate/phrasebooks/wharfgate.yaml",
		Args:    exactly("FILE"),
		RunE: func(_ *cobra.Command, args []string) error {
			b, err := openBook(args[0])
			if err != nil {
				return err
			}
			return text.BookShow(a.out, b, a.look)
		},
	}
}

func (a *app) bookCheck() *cobra.Command {
	return &cobra.Command{
		Use:     "check FILE...",
		Short:   "Check phrasebooks for mistakes, each with its line and a suggestion",
		Example: "  toril phrasebook check estate/phrasebooks/wharfgate.yaml",
		Args:    atLeast("FILE"),
		RunE: func(_ *cobra.Command, args []string) error {
			wrong := false
			for _, name := range args {
				b, err := openBook(name)
				if err != nil {
					fmt.Fprintf(a.err, "toril: %s\n", source.Clean(err.Error()))
					wrong = true
					continue
				}
				for _, w := range b.Warnings {
					fmt.Fprintf(a.err, "toril: %s\n", source.Clean(w.Error()))
				}
				fmt.Fprintf(a.out, "%s: language %s, %s, %s: no mistakes\n", source.Clean(name), b.Language,
					present.Plural(len(b.Format().Covers()), "phrase"), present.Plural(len(b.Examples), "example"))
			}
			if wrong {
				return exit(exitFindings)
			}
			return nil
		},
	}
}

func (a *app) bookSchema() *cobra.Command {
	return &cobra.Command{
		Use:     "schema",
		Example: "  toril phrasebook schema",
		Short:   "Print the JSON Schema of phrasebooks, for editors",
		Args:    noArgs,
		RunE: func(*cobra.Command, []string) error {
			out := json.NewEncoder(a.out)
			out.SetIndent("", "  ")
			return out.Encode(phrasebook.Schema())
		},
	}
}
