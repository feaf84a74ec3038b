package synth

// Office is a small estate, for tests: a router, a front and a database behind it, two zones.
const Office = `
network lan 10.0.0.0/24
host gate router
host web
host db
address gate 203.0.113.1 internet
address gate 10.0.0.1 lan
address web 10.0.0.5 lan
address db 10.0.0.6 lan
zone a.example
zone b.example
dns a.example A 203.0.113.1
dns www.a.example CNAME a.example
dns deep.sub.a.example A 203.0.113.1
dns *.wild.a.example A 203.0.113.1
dns b.example A 203.0.113.2
forward gate 80,443 to 10.0.0.5
filter edge on gate through otherwise drop
rule edge pass 80,443 from internet to web
filter inner on db input otherwise drop
rule inner pass 5432 from web
listen web 80 as front
listen web 443 as front tls cert site
listen web 22 as ssh
listen db 5432 as store
cert site for a.example expires 2027-01-01 on web
site front a.example at 443 files
site front www.a.example at 443 to http://10.0.0.6:5432
intend a.example 443 for internet
`
