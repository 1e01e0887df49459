// Package job reads what a person wrote: jobs and endpoints, as TOML files in
// a workspace folder meant for version control. Mistakes are told with file,
// line and column, what is wrong and what would be right; a file with a
// mistake is never used in part.
//
// It opens no endpoint and holds no secret: files name where a secret lies.
package job
