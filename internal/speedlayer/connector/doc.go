// Package connector talks to an environment's speed layer by the connector protocol
// (docs/contract/connector-v1.openapi.yaml).
//
// [Client] has one method for each call of the protocol. Its errors are those of package
// speedlayer: they say what was tried, on what, and what to do next. A token never
// appears in them.
package connector
