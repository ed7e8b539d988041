module toril

go 1.26.0

require (
	github.com/agnivade/levenshtein v1.2.2
	github.com/goccy/go-yaml v1.19.2
	github.com/stretchr/testify v1.12.1
	golang.org/x/sync v0.24.0
)

require go.yaml.in/yaml/v3 v3.0.5 // indirect
