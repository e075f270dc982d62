// Package changes is what people do with a change: begin and edit it, try, promote, roll
// back, take out, accept, split, discard.
//
// [Desk.Situation] gathers what the rules of core/release need to know; every move is
// made with its run and the run's job in one transaction, or not at all. What is allowed
// is decided in the core.
package changes
