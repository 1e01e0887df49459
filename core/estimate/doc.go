// Package estimate works out what carrying out a plan takes: time, requests, money, by what
// was measured of both sides and how earlier estimates turned out. It measures nothing
// itself, and decides nothing.
package estimate
