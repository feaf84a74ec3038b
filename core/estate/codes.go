package estate

import "strings"

// codesOf are the codes of findings by family; what each says is findings' concern.
var codesOf = []struct{ family, codes string }{
	{"conflict", "socket map map-socket forward address network name site default record"},
	{"order", "shadowed redundant unused direction"},
	{"name", "unresolved broken-alias alias-loop dangling stale mail unsupported pinned private no-www near-miss wildcard-catches split family undelegated"},
	{"path", "wrong-place no-forward forward-address forward-nowhere forward-transport no-public-address blocked no-listener loopback listen-address map-target no-hairpin no-route tie lost-reply one-sided"},
	{"site", "speech sources none default-answers unknown-service by-address disabled"},
	{"upstream", "localhost guard unresolved mapped-port refused blocked scheme cleartext name loop"},
	{"pool", "empty down degraded check one-network"},
	{"tunnel", "closed unused"},
	{"cert", "missing names expired expiring trial renewal clash method"},
	{"redirect", "dead loop missing"},
	{"exposure", "undeclared wider bypass past-input source-lost admin plaintext family thin"},
	{"intent", "unmet undecided contradicted unguarded"},
	{"temporary", "expired"},
	{"record", "unknown-reference without-effect"},
}

// Codes are all codes that a finding may have, as an `accept` line names them.
var Codes = func() []string {
	var out []string
	for _, f := range codesOf {
		for _, code := range strings.Fields(f.codes) {
			out = append(out, f.family+"."+code)
		}
	}
	return out
}()
