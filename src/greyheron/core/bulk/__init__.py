"""The bulk engine: very many conversations at once, meaning what the walk means."""
