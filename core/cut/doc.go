// Package cut decides in how many pieces an object goes, and how large they are. Runs,
// estimates and checks ask it, so that they say the same. It never reads or sends anything.
package cut
