// Package client is generated from the API's description by make api: the operations that the command line uses
// (generate.yaml names them). Nothing in it is written by hand.
package client
