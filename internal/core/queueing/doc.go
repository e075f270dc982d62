// Package queueing says how long runs wait when there are many sites and some workers.
//
// The main types are [Fleet] (how many sites and workers, how often which run comes, how long it takes) and [Waits] (what comes of
// it). [Simulate] plays days of a fleet event by event, with the one rule that the product's queue has beside first come, first
// served: an environment has one run at a time, and whoever waits for it keeps no worker from others. [ErlangC] is the formula for
// the case in which it can be known without playing.
package queueing
