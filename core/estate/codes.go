package estate

import "steady-compass/core/codes"

// Codes are all codes that a finding may have, as an `accept` line names them.
var Codes = func() []string {
	out := make([]string, len(codes.All))
	for i, c := range codes.All {
		out[i] = c.Code
	}
	return out
}()
