module wiselantern

go 1.26.0

require github.com/goccy/go-yaml v1.19.2

require (
	github.com/jmoiron/sqlx v1.4.0 // indirect
	github.com/klauspost/compress v1.20.3 // indirect
	github.com/mattn/go-sqlite3 v1.14.53 // indirect
	github.com/mfridman/interpolate v0.0.2 // indirect
	github.com/pressly/goose/v3 v3.29.0 // indirect
	github.com/sethvargo/go-retry v0.5.0 // indirect
	go.uber.org/multierr v1.11.0 // indirect
	golang.org/x/sync v0.24.0 // indirect
)
