// Package site is a site as a document: its environments, the pages that are
// watched, the personas who look and the journeys they take.
//
// [Parse] reads a site file (YAML or JSON) against the published schema; [Site] is
// the document; [Plan] is what one check of an environment has to look at.
//
// The package resolves no token and opens no connection.
package site
