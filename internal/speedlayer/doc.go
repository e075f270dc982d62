// Package speedlayer is what an environment's speed layer can do, whoever or whatever
// does it: read its settings, apply others, purge pages, all or some, warm them up.
//
// [Layer] is one environment's; [Abilities] says what it can do, so that nobody asks of
// which [Kind] it is. Each kind is a package of its own below this one, and package
// kinds lists them: a new one touches nothing else.
package speedlayer
