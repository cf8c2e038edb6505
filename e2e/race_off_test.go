//go:build !race

package e2e

const raceOn = false
