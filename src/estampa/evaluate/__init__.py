"""The frame evaluator: order, digests, what is stale and why, and remarks."""
