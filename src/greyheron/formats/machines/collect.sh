#!/bin/sh
# What this machine is, for Grey Heron. Run it as root on each machine, and bring all the files in together:
#   sh collect.sh > "$(hostname).json"
# It reads addresses, routes, bridges, the packet filter's rules and what listens; it changes nothing.
PATH="$PATH:/usr/sbin:/sbin"
say() { printf '%s' "$1"; }
json() { found=$("$@" 2>/dev/null) && [ -n "$found" ] && say "$found" || say null; }
word() { found=$(cat "$1" 2>/dev/null) && say "\"$found\"" || say null; }
lines() { "$@" 2>/dev/null | sed 's/[\\"]//g; s/[[:space:]]\{1,\}/ /g; s/^/"/; s/$/"/' | paste -s -d , -; }
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
say ',"vlan":'
json bridge -j vlan show
say ',"ruleset":'
json nft -j list ruleset
say ',"listening":['
lines ss -H -l -n -t -u
say ']}'
echo
