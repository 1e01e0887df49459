// Package workroom is the work on one job: survey, plan, choose, check, make ready, prove. It
// never carries out a plan, see service/runs.
package workroom
