// Package exclusions is what a site excludes, and why: its ledger, the policies by which
// people are served cached pages, and how both agree with what the settings say and what
// was seen.
//
// [Desk] keeps the ledger; [inspect.RuleContextOf] gathers what an environment's rules are
// compared with, from what is stored. What patterns match, and what is wrong with rules,
// is decided in core/exclusion.
package exclusions
