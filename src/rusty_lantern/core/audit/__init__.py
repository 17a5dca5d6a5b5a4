"""From subjects to findings: buckets, stores, replicas, waivers."""
