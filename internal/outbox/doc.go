// Package outbox is where a staging site sends its mail and its payments, so that
// checks can send forms and place orders and nobody is written to or charged.
//
// [Start] runs a mail server that keeps what it gets and sends nothing on, and a page
// that stands in for a payment provider: it shows what would be paid and leads back to
// the shop with the outcome, signed; and it takes calls of webhooks. The newest of each are
// listed at the root and as JSON.
//
// What arrives is the watched site's and is shown as text only.
package outbox
