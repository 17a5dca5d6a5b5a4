"""Who can do what: policy documents, the plain decider, and the exact region of all allowed requests."""
