// Package judge has no code of its own: in its tests the engine, and the plans that are made by it, are held against a second, slow, obvious
// reading of what machines do with a flow.
package judge
