//go:build race

package e2e

// raceOn: the programs under test are built with the race detector too.
const raceOn = true
