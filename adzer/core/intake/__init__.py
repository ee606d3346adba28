"""Getting recordings home and into a job: cards, offload, grouping, relinking, proxies."""
