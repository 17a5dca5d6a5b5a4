"""All requests at once, by set algebra."""
