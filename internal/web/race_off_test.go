//go:build !race

package web_test

// raced: these tests run with the race detector.
const raced = false
