module mellowgate

go 1.26

require go.yaml.in/yaml/v4 v4.0.0

require (
	github.com/stretchr/testify v1.12.1
	go.yaml.in/yaml/v3 v3.0.5 // indirect
)
