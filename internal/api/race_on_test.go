//go:build race

package api_test

// raced: these tests run with the race detector.
const raced = true
