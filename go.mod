module steady-compass

go 1.26.8

require (
	github.com/agnivade/levenshtein v1.2.2
	github.com/miekg/dns v1.1.73
	go4.org/netipx v0.0.0-20260823151212-3075585bcbeb
	golang.org/x/net v0.62.0
)

require (
	golang.org/x/sys v0.49.0 // indirect
	golang.org/x/text v0.43.0 // indirect
)
