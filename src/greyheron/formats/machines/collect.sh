#!/bin/sh
# What this machine is, for Grey Heron. Run it as root on each machine, and bring all the files in together:
#   sh collect.sh > "$(hostname).json"
# It reads addresses, routes, bridges, the packet filter's rules and what listens; it changes nothing.
PATH="$PATH:/usr/sbin:/sbin"
say() { printf '%s' "$1"; }
json() { found=$("$@" 2>/dev/null) && [ -n "$found" ] && say "$found" || say null; }
word() { found=$(cat "$1" 2>/dev/null) && say "\"$found\"" || say null; }
lines() { "$@" 2>/dev/null | sed 's/[\\"]//g; s/[[:space:]]\{1,\}/ /g; s/^/"/; s/$/"/' | paste -s -d , -; }
flagged() { nft -t list ruleset | grep -E '^table|^[[:space:]]*flags.*(dormant|owner|persist)'; }
# Some versions list a table that is asleep as no JSON at all, and nothing behind it: then the others alone.
awake() {
  nft -t list ruleset | awk '/^table/ { name = $2 " " $3; order[++many] = name }
    /^[[:space:]]*flags.*dormant/ { asleep[name] = 1 }
    END { for (each = 1; each <= many; each++) if (!(order[each] in asleep)) print order[each] }'
}
ruleset() {
  if ! nft -t list ruleset | grep -q '^[[:space:]]*flags.*dormant'; then nft -j list ruleset; return; fi
  printf '{"nftables": ['
  awake | while read -r family name; do nft -j list table "$family" "$name" | sed 's/^{"nftables": \[//; s/\]}$//'; done | paste -s -d , -
  printf ']}'
}
settings() {
  for each in /proc/sys/net/ipv4/icmp_echo_ignore_all /proc/sys/net/ipv6/icmp/echo_ignore_all \
    /proc/sys/net/ipv4/conf/*/rp_filter /proc/sys/net/ipv[46]/conf/*/forwarding /proc/sys/net/ipv6/conf/*/force_forwarding \
    /proc/sys/net/bridge/bridge-nf-call-iptables /proc/sys/net/bridge/bridge-nf-call-ip6tables; do
    [ -r "$each" ] && printf '%s=%s\n' "$(echo "${each#/proc/sys/}" | tr / .)" "$(cat "$each")"
  done | sed 's/[\\"]//g; s/^/"/; s/$/"/' | paste -s -d , -
}
say '{"format":"grey-heron/machine-1","machine":'
say "\"$(hostname 2>/dev/null || uname -n)\""
say ',"forwards4":'
word /proc/sys/net/ipv4/ip_forward
say ',"forwards6":'
word /proc/sys/net/ipv6/conf/all/forwarding
say ',"address":'
json ip -j -d address show
say ',"route":'
json ip -j -4 route show
say ',"route6":'
json ip -j -6 route show
say ',"local":'
json ip -j -4 route show table local
say ',"local6":'
json ip -j -6 route show table local
say ',"rule":'
json ip -j -4 rule show
say ',"rule6":'
json ip -j -6 rule show
say ',"vlan":'
json bridge -j vlan show
say ',"ruleset":'
json ruleset
say ',"flagged":['
lines flagged
say '],"settings":['
settings
say '],"legacy":['
lines cat /proc/net/ip_tables_names /proc/net/ip6_tables_names
say '],"listening":['
lines ss -H -l -n -t -u
say ']}'
echo
