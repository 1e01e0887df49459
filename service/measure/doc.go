// Package measure lets the background service be watched from outside: metrics in the OpenMetrics form,
// over HTTP or as a file for a collector, whether it is healthy and ready, and what the system's service
// manager wants to know.
//
// Names of metrics stay: others read them. docs/service.md lists them.
package measure
