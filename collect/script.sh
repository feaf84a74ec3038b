# What this machine has that counts on its network, for steady-compass import account. It opens no file for writing, starts no server program and
# changes nothing. Of everything that may hold a secret only what is on a list is printed. Run as root it sees more; what it could not see, it says.
# Read it before you run it: steady-compass collect --script | ssh box sudo -n sh -s | steady-compass import account - --place box --into my.estate
steady_compass_account() {
	LC_ALL=C
	PATH="$PATH:/usr/local/sbin:/usr/sbin:/sbin"
	export LC_ALL PATH
	parts=0
	most=8388608

	has() { command -v "$1" >/dev/null 2>&1; }

	# begin NAME WHAT begins a section: its body is what comes in, each line behind a mark, so that nothing in it passes for one of ours.
	begin() {
		parts=$((parts + 1))
		printf '@ %s %s\n' "$1" "$2"
	}
	body() { awk -v most="$most" '{ n += length($0) + 1; if (n > most) { cut = 1; exit } print "|" $0 } END { exit cut ? 9 : 0 }'; }
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

	begin machine ''
	out=$(
		echo "system $system"
		name=$(hostname 2>/dev/null || uname -n 2>/dev/null)
		echo "name $name"
		echo "root $([ "$(id -u)" = 0 ] && echo yes || echo no)"
		[ "$(cat /proc/sys/net/ipv4/ip_forward 2>/dev/null)" = 1 ] && echo forwards
		[ "$(cat /proc/sys/net/ipv6/conf/all/forwarding 2>/dev/null)" = 1 ] && echo forwards
		has sysctl && [ "$(sysctl -n net.inet.ip.forwarding 2>/dev/null)" = 1 ] && echo forwards
		true
	)
	pour

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
		out=$(sockets_of_proc)
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
{{end}}" $ids && pour
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

	for file in /etc/letsencrypt/live/*/fullchain.pem; do
		[ -f "$file" ] || continue
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

sockets_of_proc() {
	{ for fds in /proc/[0-9]*/fd; do
		pid=${fds#/proc/}
		pid=${pid%/fd}
		ls -l "$fds" 2>/dev/null | awk -v pid="$pid" 'match($0, /socket:\[[0-9]+\]/) { print "fd", substr($0, RSTART + 8, RLENGTH - 9), pid }'
	done
		for comm in /proc/[0-9]*/comm; do
			pid=${comm#/proc/}
			awk -v pid="${pid%/comm}" '{ gsub(/[ \t]/, "_"); print "comm", pid, $0; exit }' "$comm" 2>/dev/null
		done
		for kind in tcp tcp6 udp udp6; do
			awk -v kind="$kind" 'FNR > 1 { print "at", kind, $2, $4, $10 }' "/proc/net/$kind" 2>/dev/null
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

steady_compass_account </dev/null
