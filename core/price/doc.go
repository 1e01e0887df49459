// Package price is what stores ask for: rates, and what so many requests and bytes cost by
// them. It never knows what they are for.
package price
