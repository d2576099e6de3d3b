/** What each kind of device does. Made by `make contracts` from model/traits.py. */
export const TRAITS = {
  "router": {
    "forwards": true,
    "bridges": false,
    "end_system": false,
    "open_ended": false,
    "zoned": false,
    "takes_lists": true,
    "takes_frame_lists": true,
    "has_gateway": false,
    "listens": true,
    "tracks": [],
    "filters_own_traffic": false,
    "answers_denied": "prohibited"
  },
  "firewall": {
    "forwards": true,
    "bridges": false,
    "end_system": false,
    "open_ended": false,
    "zoned": true,
    "takes_lists": true,
    "takes_frame_lists": true,
    "has_gateway": false,
    "listens": true,
    "tracks": [
      "tcp",
      "udp",
      "icmp"
    ],
    "filters_own_traffic": false,
    "answers_denied": "nothing"
  },
  "host": {
    "forwards": false,
    "bridges": false,
    "end_system": true,
    "open_ended": false,
    "zoned": false,
    "takes_lists": true,
    "takes_frame_lists": false,
    "has_gateway": true,
    "listens": true,
    "tracks": [
      "tcp",
      "udp",
      "icmp"
    ],
    "filters_own_traffic": true,
    "answers_denied": "nothing"
  },
  "switch": {
    "forwards": false,
    "bridges": true,
    "end_system": false,
    "open_ended": false,
    "zoned": false,
    "takes_lists": false,
    "takes_frame_lists": true,
    "has_gateway": false,
    "listens": false,
    "tracks": [],
    "filters_own_traffic": false,
    "answers_denied": "nothing"
  },
  "outside": {
    "forwards": false,
    "bridges": false,
    "end_system": false,
    "open_ended": true,
    "zoned": false,
    "takes_lists": false,
    "takes_frame_lists": false,
    "has_gateway": true,
    "listens": false,
    "tracks": [],
    "filters_own_traffic": false,
    "answers_denied": "nothing"
  }
} as const;
