module mellowgate

go 1.26

require go.yaml.in/yaml/v4 v4.0.0
