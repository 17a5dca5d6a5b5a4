"""Reference pages and schemas, made from the code."""
