"""What happens to packets: matching, segments, routing, the walk, conversations."""
