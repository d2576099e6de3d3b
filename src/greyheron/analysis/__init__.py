"""Questions asked of the core: test flows, traces in words, comparisons."""
