package notation

// example is the estate of the notation's own description.
const example = `estate    "A small one"
network   yard 10.40.0.0/24
network   perimeter 10.40.8.0/24
network   dock 172.20.0.0/24 on azimuth
host      meridian router
host      azimuth
address   meridian 203.0.113.20 internet
address   meridian 10.40.0.1 yard
address   meridian 10.40.8.1 perimeter
address   azimuth 10.40.8.10 perimeter
zone      fernmoor.example
dns       fernmoor.example A 203.0.113.20 ttl 5m
dns       sky.fernmoor.example CNAME fernmoor.example
forward   meridian 80,443 to 10.40.8.10
filter    edge on meridian through otherwise drop
rule      edge pass any from yard,perimeter to internet
rule      edge pass 443 from internet to azimuth
filter    local on azimuth input otherwise drop
rule      local pass 22 from perimeter
container azimuth/front in dock
container azimuth/allsky in dock
map       azimuth/front 80,443 to 80,443
map       azimuth/allsky 8080 to 3000
listen    azimuth/front 80 as front
listen    azimuth/front 443 as front tls cert star
listen    azimuth/allsky 3000 as allsky
site      front sky.fernmoor.example at 443 to http://localhost:3000
site      front sky.fernmoor.example at 80 redirect https
cert      star for *.fernmoor.example expires 2027-03-01 on azimuth/front by dns-01
intend    sky.fernmoor.example 80,443 for internet reaching azimuth/allsky
`
