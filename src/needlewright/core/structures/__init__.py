"""What several formats are built of: checked reads, boxes, chunks, directories, frames."""
