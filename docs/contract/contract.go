// Package contract carries the published documents that Tide Marker and the sites
// it maintains agree on: the connector protocol, the site file and the reports.
package contract

import _ "embed"

// ConnectorYAML is the connector protocol as OpenAPI 3.1.
//
//go:embed connector-v1.openapi.yaml
var ConnectorYAML []byte

// SiteFileSchema is the JSON Schema of a site file.
//
//go:embed site-file.schema.json
var SiteFileSchema []byte

// ReportSchema is the JSON Schema of a check report.
//
//go:embed report.schema.json
var ReportSchema []byte

// CulpritReportSchema is the JSON Schema of a report on a search for the culprit.
//
//go:embed culprit-report.schema.json
var CulpritReportSchema []byte

// MeasureReportSchema is the JSON Schema of a report on a measurement.
//
//go:embed measure-report.schema.json
var MeasureReportSchema []byte

// CopiedSettingsSchema is the JSON Schema of a revision on its way to another site.
//
//go:embed copied-settings.schema.json
var CopiedSettingsSchema []byte
