"""Files that are a row of units (chunks, blocks, packets, frames), of which the sound ones stay."""
