// Package lab holds the test benches that need more than the code itself: the built program, killed and started again, its
// interface in a real browser, a real name server, a real container engine, and estates laid out in network namespaces
// under the kernel's own packet filter. Where a machine lacks what a bench needs, the bench says so and is skipped.
package lab
