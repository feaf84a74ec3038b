// Package lab holds the test benches that need more than the code itself: the built program,
// killed and started again, and its interface in a real browser. Where a machine lacks what a bench
// needs, the bench says so and is skipped.
package lab
