# What this machine has that counts on its network, for steady-compass import account. It opens no file for writing, starts no server program and
# changes nothing. Of everything that may hold a secret only what is on a list is printed. Run as root it sees more; what it could not see, it says.
# Read it before you run it: steady-compass collect --script | ssh box sudo -n sh -s | steady-compass import account - --place box --into my.estate
steady_compass_account() {
	LC_ALL=C
	PATH="$PATH:/usr/local/sbin:/usr/sbin:/sbin"
	export LC_ALL PATH
	parts=0
	most=8388608
	seen= shown= certs= holders=

	has() { command -v "$1" >/dev/null 2>&1; }

	# begin NAME WHAT begins a section: its body is what comes in, each line behind a mark, so that nothing in it passes for one of ours.
	begin() {
		parts=$((parts + 1))
		printf '@ %s %s\n' "$1" "$2"
	}
	body() { awk -v most="$most" '{ n += length($0) + 1; if (n > most) { cut = 1; exit } print "|" $0 } END { exit cut ? 9 : 0 }'; }
	# written KIND FILE: a configuration by its list; the certificates that it names are read below, once each.
	written() {
		[ -f "$2" ] || return 0
		case " $seen " in *" $2 "*) return 0 ;; esac
		seen="$seen $2"
		begin "$1" "$2"
		if [ ! -r "$2" ]; then
			echo '= no right'
			return 0
		fi
		out=$("listed_$1" <"$2" 2>/dev/null)
		pour
		shown="$shown $(printf '%s\n' "$out" | awk '
			$1 == "ssl_certificate" || tolower($1) == "sslcertificatefile" { f = $2; sub(/;$/, "", f); gsub(/"/, "", f); print f }
			$1 == "bind" { for (i = 2; i < NF; i++) if ($i == "crt") print $(i + 1) }' | grep '^/[A-Za-z0-9._/@+-]*$')"
	}
	# pour prints $out as the body, and how it ended.
	pour() {
		if [ -n "$out" ]; then
			if printf '%s\n' "$out" | body; then echo '= ok'; else echo '= cut'; fi
		else
			echo '= ok'
		fi
	}
	# try COMMAND…: its output is a body, if it ends well.
	try() {
		if ! has "$1"; then
			echo "= no $1"
			return 1
		fi
		out=$("$@" 2>/dev/null) && return 0
		status=$?
		if [ "$(id -u)" != 0 ]; then echo '= no right'; else echo "= failed $status"; fi
		return 1
	}

	echo 'steady-compass account 1'
	system=$(uname -s 2>/dev/null)

	if [ "$1" != more ]; then
	begin machine ''
	out=$(
		echo "system $system"
		name=$(hostname 2>/dev/null || uname -n 2>/dev/null)
		echo "name $name"
		echo "root $([ "$(id -u)" = 0 ] && echo yes || echo no)"
		[ "$(cat /proc/sys/net/ipv4/ip_forward 2>/dev/null)" = 1 ] && echo forwards
		[ "$(cat /proc/sys/net/ipv6/conf/all/forwarding 2>/dev/null)" = 1 ] && echo forwards
		[ "$paths" = yes ] || echo 'paths no'
		has sysctl && [ "$(sysctl -n net.inet.ip.forwarding 2>/dev/null)" = 1 ] && echo forwards
		true
	)
	pour
	fi

	begin addresses ''
	if has ip; then
		out=$(
			ip -o link show 2>/dev/null | awk '{
				name = $2; sub(/:$/, "", name); sub(/@.*/, "", name)
				print "link", name, ($3 ~ /[<,]UP[,>]/ ? "up" : "down"), ($3 ~ /LOOPBACK/ ? "loopback" : "-")
			}'
			ip -o addr show 2>/dev/null | awk '{
				kept = "-"
				for (i = 5; i <= NF; i++) { if ($i == "dynamic") kept = kept ",dynamic"; if ($i == "temporary") kept = kept ",temporary" }
				if ($3 == "inet" || $3 == "inet6") print "addr", $2, $4, kept
			}'
		)
		pour
	elif [ -r /proc/net/route ]; then
		out=$(addresses_of_proc)
		pour
	elif has ifconfig; then
		out=$(ifconfig -a 2>/dev/null | awk '
			function bits(mask, n, i, c) {
				n = 0
				if (mask ~ /^0x/) { for (i = 3; i <= length(mask); i++) { c = index("0123456789abcdef", tolower(substr(mask, i, 1))) - 1; n += int(c / 8) + int(c / 4) % 2 + int(c / 2) % 2 + c % 2 }; return n }
				split(mask, o, "."); for (i = 1; i <= 4; i++) { c = o[i]; while (c > 0) { n += c % 2; c = int(c / 2) } }
				return n
			}
			/^[^ \t]/ { name = $1; sub(/:$/, "", name); print "link", name, ($0 ~ /[<,]UP[,>]/ ? "up" : "down"), ($0 ~ /LOOPBACK/ ? "loopback" : "-") }
			$1 == "inet" { for (i = 2; i < NF; i++) if ($i == "netmask") print "addr", name, $2 "/" bits($(i + 1)), "-" }
			$1 == "inet6" { a = $2; sub(/%.*/, "", a); for (i = 2; i < NF; i++) if ($i == "prefixlen") print "addr", name, a "/" $(i + 1), ($0 ~ /temporary/ ? "-,temporary" : "-") }
		')
		pour
	else
		echo '= no ip'
	fi

	if [ "$1" != more ]; then
	begin routes ''
	if has ip; then
		out=$(
			for family in -4 -6; do
				ip "$family" route show table main 2>/dev/null | awk -v six="$family" '
					$1 == "nexthop" { for (i = 1; i < NF; i++) if ($i == "via") print "route", to, $(i + 1) == "inet6" || $(i + 1) == "inet" ? $(i + 2) : $(i + 1); next }
					$1 == "blackhole" || $1 == "unreachable" || $1 == "prohibit" { print "route", ($2 == "default" && six == "-6" ? "default6" : $2), "-"; next }
					{ to = $1; for (i = 1; i < NF; i++) if ($i == "via") print "route", to, ($(i + 1) == "inet6" || $(i + 1) == "inet") ? $(i + 2) : $(i + 1) }'
			done
		)
		pour
	elif [ -r /proc/net/route ]; then
		out=$(routes_of_proc)
		pour
	elif has netstat; then
		out=$(netstat -rn 2>/dev/null | awk '$2 ~ /^[0-9a-fA-F.:]+$/ && $3 ~ /G/ && ($1 == "default" || $1 ~ /\// || $3 ~ /H/) { print "route", $1, $2 }')
		pour
	else
		echo '= no ip'
	fi

	begin sockets ''
	if has ss; then
		out=$(ss -tulnp 2>/dev/null | awk '
			$1 == "tcp" || $1 == "udp" {
				program = "-"
				if (match($0, /users:\(\("[^"]*"/)) program = substr($0, RSTART + 9, RLENGTH - 10)
				gsub(/[ \t]/, "_", program)
				print "sock", $1, $5, program
			}')
		pour
	elif [ -r /proc/net/tcp ]; then
		holders=$(holders_of_proc)
		out=$(sockets_of_proc /proc/net)
		pour
	elif has sockstat; then
		out=$(sockstat -46l 2>/dev/null | awk 'NR > 1 && ($5 ~ /^tcp/ || $5 ~ /^udp/) { print "sock", $5, $6, $2 }')
		pour
	elif has netstat; then
		out=$(netstat -an 2>/dev/null | awk '$1 ~ /^tcp/ && $6 == "LISTEN" || $1 ~ /^udp/ && $5 == "*.*" { print "sock", $1, $4, "-" }')
		pour
	else
		echo '= no ss'
	fi

	begin hosts /etc/hosts
	if [ -r /etc/hosts ]; then
		out=$(awk '{ sub(/#.*/, "") } NF > 1 { $1 = $1; print }' /etc/hosts)
		pour
	else
		echo '= failed 1'
	fi

	fi

	begin nft ''
	if try nft -j list ruleset; then
		out=$(printf '%s\n' "$out" | listed_nft)
		pour
	fi
	for save in iptables-save ip6tables-save; do
		begin save "$save"
		if try "$save"; then
			out=$(printf '%s\n' "$out" | listed_save)
			pour
		fi
	done

	for engine in docker podman; do
		[ "$1" != more ] || continue
		has "$engine" || continue
		# Asked only where it was used: it would make its own files else.
		case $engine in
		docker) [ -S /var/run/docker.sock ] || [ -n "$DOCKER_HOST" ] || continue ;;
		podman) [ -d /var/lib/containers/storage ] && [ -S /run/podman/podman.sock ] || continue ;;
		esac
		begin containers "$engine"
		# Only these fields: no environment, command, arguments or mounts, and no label but the project and the service.
		label='com.docker.compose' && [ "$engine" = podman ] && label='io.podman.compose'
		if try "$engine" ps -aq --no-trunc; then
			ids=$out
			out=
			if [ -n "$ids" ]; then
				# shellcheck disable=SC2086
				try "$engine" inspect --type container --format "container {{.Id}} {{.Name}} {{.State.Status}} {{.State.Pid}} {{.HostConfig.NetworkMode}} {{with index .Config.Labels \"$label.project\"}}{{.}}{{else}}-{{end}} {{with index .Config.Labels \"$label.service\"}}{{.}}{{else}}-{{end}}
bind {{json .HostConfig.PortBindings}}
port {{json .NetworkSettings.Ports}}
{{range \$name, \$leg := .NetworkSettings.Networks}}leg {{\$name}} {{with \$leg.NetworkID}}{{.}}{{else}}-{{end}} {{with \$leg.IPAMConfig}}{{with .IPv4Address}}{{.}}{{else}}-{{end}} {{with .IPv6Address}}{{.}}{{else}}-{{end}}{{else}}- -{{end}}{{range \$leg.Aliases}} {{.}}{{end}}
{{end}}" $ids && {
					# What runs on the machine's own addresses, or on another one's, is in the list of those.
					running=$(printf '%s\n' "$out" | awk '$1 == "container" && $5 > 0 && $6 != "host" && $6 !~ /:/ { print $2 "=" $5 }')
					pour
					[ -z "$running" ] || [ -n "$holders" ] || holders=$(holders_of_proc)
					for one in $running; do
						network=$(readlink "/proc/${one#*=}/ns/net" 2>/dev/null)
						[ -n "$network" ] && [ "$network" = "$(readlink /proc/self/ns/net 2>/dev/null)" ] && continue
						begin inside "${one%=*}"
						if [ -r "/proc/${one#*=}/net/tcp" ]; then
							out=$(sockets_of_proc "/proc/${one#*=}/net")
							pour
						else
							echo '= no right'
						fi
					done
				}
			else
				pour
			fi
		fi
		begin networks "$engine"
		if try "$engine" network ls -q --no-trunc; then
			ids=$out
			out=
			if [ "$engine" = podman ]; then
				shape='network {{.ID}} {{.Name}} {{.Driver}} {{.Internal}} -{{range .Subnets}} {{.Subnet}}{{end}}'
			else
				shape='network {{.Id}} {{.Name}} {{.Driver}} {{.Internal}} {{with index .Options "com.docker.network.bridge.gateway_mode_ipv4"}}{{.}}{{else}}-{{end}}{{range .IPAM.Config}} {{.Subnet}}{{end}}'
			fi
			if [ -n "$ids" ]; then
				# shellcheck disable=SC2086
				try "$engine" network inspect --format "$shape" $ids && pour
			else
				pour
			fi
		fi
	done

	# Web servers and balancers: their configuration as it stands in the system's usual places, of it the statements that are on a list.
	for file in /etc/nginx/*.conf /etc/nginx/conf.d/* /etc/nginx/sites-enabled/* /etc/nginx/snippets/* /etc/nginx/*.d/* /usr/local/etc/nginx/*.conf /usr/local/etc/nginx/*/*.conf; do
		written nginx "$file"
	done
	for file in /etc/apache2/apache2.conf /etc/apache2/ports.conf /etc/apache2/*-enabled/* /etc/httpd/conf/httpd.conf /etc/httpd/conf.d/*.conf /usr/local/etc/apache24/httpd.conf /usr/local/etc/apache24/Includes/*.conf; do
		written apache "$file"
	done
	for file in /etc/haproxy/haproxy.cfg /usr/local/etc/haproxy.conf; do
		written haproxy "$file"
	done

	for file in /etc/letsencrypt/live/*/fullchain.pem $shown; do
		[ -f "$file" ] || continue
		case " $certs " in *" $file "*) continue ;; esac
		certs="$certs $file"
		begin certificate "$file"
		if [ -r "$file" ]; then
			out=$(awk '/^-----BEGIN CERTIFICATE-----\r?$/ { on = 1 } on && (/^-----(BEGIN|END) CERTIFICATE-----\r?$/ || /^[A-Za-z0-9+\/=]+\r?$/) { print } /^-----END / { on = 0 }' "$file" 2>/dev/null)
			pour
		else
			echo '= no right'
		fi
	done

	printf '@ done %s\n' "$parts"
}

# Addresses, routes and sockets as the kernel of Linux shows them to everybody, where no tool is there to ask for them.
hex='function num(h, i, n) { n = 0; for (i = 1; i <= length(h); i++) n = n * 16 + index("0123456789abcdef", tolower(substr(h, i, 1))) - 1; return n }
	function four(h) { return num(substr(h, 7, 2)) "." num(substr(h, 5, 2)) "." num(substr(h, 3, 2)) "." num(substr(h, 1, 2)) }
	function bits(h, i, c, n) { n = 0; for (i = 1; i <= length(h); i++) { c = index("0123456789abcdef", tolower(substr(h, i, 1))) - 1; n += int(c / 8) + int(c / 4) % 2 + int(c / 2) % 2 + c % 2 } return n }
	function six(h, i, t) { t = ""; for (i = 1; i <= 32; i += 4) t = t (i > 1 ? ":" : "") substr(h, i, 4); return t }
	function turned(h, i, t) { t = ""; for (i = 1; i <= 32; i += 8) t = t substr(h, i + 6, 2) substr(h, i + 4, 2) substr(h, i + 2, 2) substr(h, i, 2); return six(t) }'

addresses_of_proc() {
	for flags in /sys/class/net/*/flags; do
		name=${flags#/sys/class/net/}
		awk -v name="${name%/flags}" "$hex"'{ f = num(substr($1, 3)); print "link", name, (f % 2 ? "up" : "down"), (int(f / 8) % 2 ? "loopback" : "-") }' "$flags" 2>/dev/null
	done
	# The addresses of this machine, and the networks of its interfaces: each address is on the closest network that has it.
	{ awk 'FNR > 1 && $3 == "00000000" && $8 != "00000000" { print "net", $1, $2, $8 }' /proc/net/route 2>/dev/null
		awk '/\|--/ { at = $2 } /\/32 host LOCAL/ { print "local", at }' /proc/net/fib_trie 2>/dev/null | sort -u; } | awk "$hex"'
		function value(a, o) { split(a, o, "."); return ((o[1] * 256 + o[2]) * 256 + o[3]) * 256 + o[4] }
		$1 == "net" { n++; dev[n] = $2; at[n] = value(four($3)); len[n] = bits($4) }
		$1 == "local" && $2 !~ /^127\./ {
			best = 0
			for (i = 1; i <= n; i++) { size = 1; for (k = len[i]; k < 32; k++) size *= 2; if (int(value($2) / size) == int(at[i] / size) && (!best || len[i] > len[best])) best = i }
			if (best) print "addr", dev[best], $2 "/" len[best], "-"; else print "addr", "-", $2 "/32", "-"
		}'
	awk "$hex"'$6 != "lo" { print "addr", $6, six($1) "/" num($3), (int(num($5) / 128) % 2 ? "-" : "-,dynamic") (num($5) % 2 ? ",temporary" : "") }' /proc/net/if_inet6 2>/dev/null
}

routes_of_proc() {
	awk "$hex"'FNR > 1 && $3 != "00000000" { print "route", ($8 == "00000000" ? "default" : four($2) "/" bits($8)), four($3) }' /proc/net/route 2>/dev/null
	awk "$hex"'$5 != "00000000000000000000000000000000" && $10 != "lo" { print "route", ($2 == "00" ? "default" : six($1) "/" num($2)), six($5) }' /proc/net/ipv6_route 2>/dev/null
}

# holders_of_proc are the processes that hold sockets, in whatever network, and what each is called.
holders_of_proc() {
	for fds in /proc/[0-9]*/fd; do
		pid=${fds#/proc/}
		pid=${pid%/fd}
		ls -l "$fds" 2>/dev/null | awk -v pid="$pid" 'match($0, /socket:\[[0-9]+\]/) { print "fd", substr($0, RSTART + 8, RLENGTH - 9), pid }'
	done
	for comm in /proc/[0-9]*/comm; do
		pid=${comm#/proc/}
		awk -v pid="${pid%/comm}" '{ gsub(/[ \t]/, "_"); print "comm", pid, $0; exit }' "$comm" 2>/dev/null
	done
}

# sockets_of_proc FOLDER are those of the network that the folder is of, with the programs among $holders.
sockets_of_proc() {
	{ printf '%s\n' "$holders"
		for kind in tcp tcp6 udp udp6; do
			awk -v kind="$kind" 'FNR > 1 { print "at", kind, $2, $4, $10 }' "$1/$kind" 2>/dev/null
		done; } | awk "$hex"'
		$1 == "fd" { if (!($2 in by) || by[$2] == 1) by[$2] = $3 }
		$1 == "comm" { name[$2] = $3 }
		$1 == "at" && ($2 ~ /^tcp/ && $4 == "0A" || $2 ~ /^udp/ && $4 == "07") {
			split($3, part, ":")
			where = length(part[1]) > 8 ? "[" turned(part[1]) "]" : four(part[1])
			port = num(part[2]); kind = substr($2, 1, 3)
			if (where == "0.0.0.0") four_too[kind, port] = 1
			# A socket on every address of IPv6 has those of IPv4 too, unless somebody else has.
			every[++n] = part[1] ~ /^0+$/ && length(part[1]) > 8; of[n] = kind; on[n] = port; at[n] = where
			who[n] = ($5 in by) && (by[$5] in name) ? name[by[$5]] : "-"
		}
		END { for (i = 1; i <= n; i++) print "sock", of[i], (every[i] && !((of[i], on[i]) in four_too) ? "*" : at[i]) ":" on[i], who[i] }'
}

# listed_nft prints a ruleset in JSON with the words of those keys only that are on the list: no comment, and no text of a log.
listed_nft() {
	awk '
		BEGIN {
			RS = "\""; ORS = ""
			n = split("family table name chain type hook policy dev op protocol field key dir target set elem val left right concat range addr data flags map base result expr jump goto fib handle", list, " ")
			for (i = 1; i <= n; i++) may[list[i]] = 1
		}
		function closed(text, i, c) {
			for (i = 1; i <= length(text); i++) {
				c = substr(text, i, 1)
				if (c == "{" || c == "[") { depth++; last[depth] = last[depth - 1] }
				if (c == "}" || c == "]") depth--
			}
		}
		{
			if (inside) {
				held = held $0
				tail = 0
				for (i = length($0); i > 0 && substr($0, i, 1) == "\\"; i--) tail++
				if (tail % 2) { held = held "\""; next }
				inside = 0; waiting = 1; next
			}
			if (waiting) {
				if ($0 ~ /^[ \t\r\n]*:/) { last[depth] = held; print "\"" held "\"" } else print "\"" (last[depth] in may ? held : "") "\""
				waiting = 0
			}
			print $0; closed($0); inside = 1; held = ""
		}'
}

# listed_save prints rules with the conditions that are on the list; one that has another is marked, so that nobody takes it for all there is.
listed_save() {
	awk '
		BEGIN {
			n = split("-A -s -d -i -o -p -m -j -g --source --destination --in-interface --out-interface --protocol --match --jump --goto --sport --dport --source-port --destination-port --sports --dports --ports --state --ctstate --ctdir --ctproto --ctorigsrc --ctorigdst --ctorigdstport --src-type --dst-type --limit-iface-in --icmp-type --icmpv6-type --reject-with --to-destination --to-source --to-ports --mark --src-range --dst-range --limit --limit-burst --uid-owner --gid-owner --physdev-in --physdev-out --pkt-type --set-mark --set-xmark --log-level --hitcount --seconds --probability --mode --every --packet --length --tcp-option --mac-source", list, " ")
			for (i = 1; i <= n; i++) args[list[i]] = 1
			n = split("! --syn -f --random --random-fully --persistent --rcheck --update --set --physdev-is-bridged --limit-iface-in --rsource --rdest -4 -6", list, " ")
			for (i = 1; i <= n; i++) args[list[i]] = 0
			args["--tcp-flags"] = 2; args["--match-set"] = 2
			cut["--comment"] = 1; cut["--log-prefix"] = 1; cut["--nflog-prefix"] = 1; cut["--nflog-group"] = 1
		}
		/^[*]/ || /^COMMIT/ { print; next }
		/^:/ { print $1, $2; next }
		/^(\[[0-9:]*\] )?-A / {
			n = 0; text = $0; sub(/^\[[0-9:]*\] /, "", text)
			while (text != "") {
				sub(/^[ \t]+/, "", text)
				if (text == "") break
				if (substr(text, 1, 1) == "\"") { match(text, /^"([^"\\]|\\.)*"?/); word[++n] = substr(text, 1, RLENGTH); quoted[n] = 1 }
				else { match(text, /^[^ \t]+/); word[++n] = substr(text, 1, RLENGTH); quoted[n] = 0 }
				text = substr(text, RLENGTH + 1)
			}
			line = ""; withheld = 0
			for (i = 1; i <= n; i++) {
				w = word[i]
				if (!quoted[i] && (w in args)) {
					line = line (line == "" ? "" : " ") w
					for (k = 0; k < args[w] && i < n; k++) { i++; if (quoted[i]) withheld = 1; else line = line " " word[i] }
				} else if (!quoted[i] && (w in cut)) {
					i++
				} else {
					withheld = 1
					while (i < n && (quoted[i + 1] || substr(word[i + 1], 1, 1) != "-")) i++
				}
			}
			gsub(/ -m comment/, "", line)
			print line (withheld ? " --withheld" : "")
		}'
}

# Where URL paths are to be left out, what sites do below / is.
paths=yes

# The lists of statements of web servers and balancers. Of what is printed, what stands before an @ in a URL, behind a ? in one, and in quotes behind a
# status is cut; a condition that is not on the list stands as one that nobody knows.
url='function url(w) { if (paths == "no" && match(w, /^[a-z]+:\/\/[^\/]*\//)) w = substr(w, 1, RLENGTH); else if (paths == "no" && w ~ /^\//) w = "/"; if (w ~ /^[a-z]+:\/\/[^\/]*@/) sub(/:\/\/[^\/]*@/, "://", w); sub(/\?.*/, "", w); return w }
	function listed(text, into, n, i, part) { n = split(text, part, " "); for (i = 1; i <= n; i++) into[part[i]] = 1 }'

listed_nginx() {
	awk -v paths="$paths" "$url"'
		BEGIN {
			RS = "\001"
			listed("listen server_name include return rewrite proxy_pass grpc_pass fastcgi_pass uwsgi_pass root alias ssl_certificate allow deny auth_basic auth_request satisfy try_files index proxy_set_header proxy_ssl_verify proxy_ssl_name proxy_ssl_server_name proxy_ssl ssl_preread ssl server least_conn ip_hash random hash error_page resolver proxy_protocol default_type", plain)
			listed("server http stream upstream location if events", block)
		}
		function word_of(i, t) { t = w[i]; if (q[i] || t ~ /[ \t;{}"\047]/ || t == "") { gsub(/\\/, "\\\\", t); gsub(/"/, "\\\"", t); t = "\"" t "\"" } return t }
		function flush(end, i, line, last) {
			if (n == 0) return 0
			last = n
			if (end == "{") {
				if (!(w[1] in block)) return 0
				if (w[1] == "location" && paths == "no" && w[n] != "/") return 0
				if (w[1] == "if") { print "if ($withheld) {"; return 1 }
				line = w[1]
			} else {
				if (!(w[1] in plain)) return 0
				if (w[1] == "proxy_set_header" && tolower(w[2]) != "host") return 0
				if (w[1] == "return" && n > 2 && w[3] !~ /^([a-z]+:\/\/|\$scheme|\/)/) last = 2
				if (w[1] == "rewrite" && paths == "no") { print "rewrite . $withheld last;"; return 1 }
				if (w[1] == "auth_basic" && w[2] != "off") w[2] = "withheld"
				line = w[1]
			}
			for (i = 2; i <= last; i++) { if (!(w[1] == "location" || w[1] == "rewrite" && i == 2)) w[i] = url(w[i]); line = line " " word_of(i) }
			print line (end == "{" ? " {" : ";")
			return 1
		}
		function closed() { if (has) { n++; w[n] = cur; q[n] = quoted; cur = ""; has = 0; quoted = 0 } }
		{
			text = $0; size = length(text); depth = 0
			for (i = 1; i <= size; i++) {
				c = substr(text, i, 1)
				if (mark != "") {
					if (c == "\\" && i < size) { i++; cur = cur c substr(text, i, 1) } else if (c == mark) mark = ""; else cur = cur c
					continue
				}
				if (c == "#" && !has) { while (i <= size && substr(text, i, 1) != "\n") i++; continue }
				if ((c == "\"" || c == "\047") && !has) { mark = c; has = 1; quoted = 1; continue }
				if (c == "\\" && i < size) { i++; cur = cur c substr(text, i, 1); has = 1; continue }
				if (c == "$" && substr(text, i + 1, 1) == "{") { k = index(substr(text, i), "}"); if (k) { cur = cur substr(text, i, k); has = 1; i += k - 1; continue } }
				if (c ~ /[ \t\r\n]/) { closed(); continue }
				if (c == ";") { closed(); if (!skip) flush(";"); n = 0; continue }
				if (c == "{") { closed(); depth++; if (!skip && !flush("{")) skip = depth; n = 0; continue }
				if (c == "}") { closed(); n = 0; if (skip == depth) skip = 0; else if (!skip && depth > 0) print "}"; if (depth > 0) depth--; continue }
				cur = cur c; has = 1
			}
		}'
}

listed_apache() {
	awk -v paths="$paths" "$url"'
		BEGIN {
			listed("listen servername serveralias documentroot sslengine sslcertificatefile proxypass proxypassmatch proxypreservehost balancermember proxyset redirect redirectpermanent redirecttemp redirectmatch rewriteengine rewriterule rewritecond include includeoptional require authtype authname authuserfile authbasicprovider order allow deny satisfy alias scriptalias aliasmatch scriptaliasmatch loadmodule serverroot", plain)
			listed("virtualhost ifmodule ifversion ifdefine proxy location locationmatch directory requireall requireany", block)
		}
		{ sub(/\r$/, "") }
		/\\$/ { held = held substr($0, 1, length($0) - 1) " "; next }
		{ line = held $0; held = ""; sub(/^[ \t]+/, "", line) }
		line ~ /^<\// { name = tolower(substr(line, 3)); sub(/[ \t>].*/, "", name); if (skipping != "") { if (name == skipping && --level == 0) skipping = "" ; next } if (name in block) print line; next }
		line ~ /^</ {
			name = tolower(substr(line, 2)); sub(/[ \t>].*/, "", name)
			if (skipping != "") { if (name == skipping) level++; next }
			if (!(name in block) || paths == "no" && name ~ /^location/ && line !~ /^<[A-Za-z]+[ \t]+"?\/"?>/) { skipping = name; level = 1; next }
			print line; next
		}
		skipping != "" || line == "" || line ~ /^#/ { next }
		{
			n = split(line, word, /[ \t]+/); name = tolower(word[1])
			if (name == "define" && n == 3 && word[3] ~ /^"?\/[A-Za-z0-9._\/-]*"?$/) { print line; next }
			if (!(name in plain)) next
			if (paths == "no" && name == "rewriterule") { print word[1], ". %{withheld}"; next }
			if (paths == "no" && (name ~ /match$/ || name ~ /^(proxypass|redirect.*|alias|scriptalias)$/ && word[2] ~ /^"?\/./)) next
			if (name == "rewritecond") { print word[1], "%{withheld} withheld"; next }
			if (name == "authname") { print word[1], "withheld"; next }
			if (name == "require" && tolower(word[2]) !~ /^(ip|host|all|local|not|valid-user|user|group)$/) { print word[1], "expr withheld"; next }
			out = word[1]
			for (i = 2; i <= n; i++) out = out " " (name == "rewriterule" && i == 2 || name ~ /match$/ && i == 2 ? word[i] : url(word[i]))
			print out
		}'
}

listed_haproxy() {
	awk -v paths="$paths" "$url"'
		BEGIN {
			listed("mode bind acl use_backend default_backend redirect http-request tcp-request balance server option default-server", plain)
			listed("global peers resolvers userlist mailers program cache ring http-errors crt-store fcgi-app defaults frontend backend listen", section)
			listed("check inter fastinter downinter rise fall backup ssl disabled weight port send-proxy send-proxy-v2 verify none required crt alpn npn ca-file maxconn proto h2 accept-proxy v4v6 v6only transparent interface on-marked-down shutdown-sessions observe layer4 layer7 error-limit slowstart init-addr addr check-ssl no-ssl", option)
		}
		{ sub(/\r$/, ""); sub(/^[ \t]+/, ""); sub(/[ \t]#.*/, "") }
		$0 == "" || /^#/ { next }
		$1 in section { print $1, $2; inside = $1; next }
		inside != "defaults" && inside != "frontend" && inside != "backend" && inside != "listen" { next }
		!($1 in plain) { next }
		function known(test) { if (paths == "no" && test ~ /^path/) return 0; return test ~ /^(hdr\(host\)|req\.f?hdr\(host\)|ssl_fc_sni|req_ssl_sni|req\.ssl_sni|hdr_(end|beg|reg|dom)\(host\)|ssl_fc_sni_end|path|path_beg|path_end|path_reg|path_dir|src|dst|dst_port|method)(,[a-z]+)?$/ }
		# words are those from one on, where a test in braces that is not on the list stands as one that nobody knows.
		function words(i, line, k, hidden) {
			for (; i <= NF; i++) {
				if ($i ~ /^!?[{]$/) { hidden = !known($(i + 1)); if (hidden) { line = line " " $i " withheld"; while (i < NF && $(i + 1) != "}") i++; continue } }
				else if ($i ~ /[{]/ && $i !~ /^%?\[/) { line = line " { withheld }"; while (i < NF && $i !~ /}$/) i++; continue }
				line = line " " url($i)
			}
			return line
		}
		$1 == "acl" {
			if (known($3)) print "   ", $0; else print "   ", $1, $2, "withheld"
			next
		}
		$1 == "http-request" || $1 == "tcp-request" {
			from = 3
			if ($2 != "redirect") while (from <= NF && $from != "if" && $from != "unless") from++
			print "   ", $1, $2 words(from)
			next
		}
		$1 == "option" && $2 != "httpchk" && $2 != "tcp-check" && $2 != "ssl-hello-chk" { next }
		$1 == "server" || $1 == "bind" || $1 == "default-server" {
			from = $1 == "server" ? 4 : $1 == "bind" ? 3 : 2
			line = "   "; for (i = 1; i < from && i <= NF; i++) line = line " " $i
			for (i = from; i <= NF; i++) { if (!($i in option)) continue; line = line " " $i; if ($i ~ /^(inter|fastinter|downinter|rise|fall|weight|port|verify|crt|alpn|npn|maxconn|proto|addr)$/ && i < NF && !($(i + 1) in option && $i != "verify" && $i != "proto")) line = line " " $(++i) }
			print line; next
		}
		{ print "   " words(1) }'
}

steady_compass_account </dev/null
