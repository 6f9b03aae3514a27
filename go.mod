module wiselantern

go 1.26.0

require github.com/goccy/go-yaml v1.19.2
