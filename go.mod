module toril

go 1.26.0

require (
	github.com/agnivade/levenshtein v1.2.2
	github.com/ccojocar/zxcvbn-go v1.0.4
	github.com/goccy/go-yaml v1.19.2
	github.com/jedib0t/go-pretty/v6 v6.8.3
	github.com/spf13/cobra v1.10.2
	github.com/stretchr/testify v1.12.1
	golang.org/x/sync v0.24.0
	golang.org/x/term v0.47.0
	golang.org/x/tools v0.52.0
)

require (
	github.com/inconshreveable/mousetrap v1.1.0 // indirect
	github.com/mattn/go-runewidth v0.0.16 // indirect
	github.com/rivo/uniseg v0.4.7 // indirect
	github.com/spf13/pflag v1.0.9 // indirect
	go.yaml.in/yaml/v3 v3.0.5 // indirect
	golang.org/x/sys v0.49.0 // indirect
	golang.org/x/text v0.22.0 // indirect
)
