// Package forecast says what the coming days look like: which starts come, how long their runs will
// take by what past ones took, which of them want one endpoint at the same time, and at which hours
// of the week endpoints are busy.
//
// It asks nobody: the past is handed in, and the same past and schedules give the same forecast.
package forecast
