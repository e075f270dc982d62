// Package soak makes trouble on purpose, for as long as it is told to: its test starts a PostgreSQL, a server, two workers and
// stand-in sites, lets people act at random from a seed, kills processes at labelled points of their work and at random times,
// restarts and cuts off the database, and lets connectors fail; after each trouble it checks that nothing was lost and nothing
// is said that is not so. `make soak` runs it long, `make test` for two minutes. docs/reliability.md has what it found.
package soak
