"""Version tables: made by a survey, kept as Parquet, judged in columns."""
