module magpie

go 1.26.0

require (
	github.com/gliderlabs/ssh v0.3.8
	github.com/goccy/go-yaml v1.19.2
	github.com/santhosh-tekuri/jsonschema/v6 v6.0.3
	golang.org/x/crypto v0.58.0
	golang.org/x/text v0.43.0
)

require (
	github.com/anmitsu/go-shlex v0.0.0-20200514113438-38f4b401e2be // indirect
	golang.org/x/sys v0.49.0 // indirect
)
