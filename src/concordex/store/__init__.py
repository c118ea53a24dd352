"""What is kept below a workspace: snapshots as Parquet files, and the catalogue."""
