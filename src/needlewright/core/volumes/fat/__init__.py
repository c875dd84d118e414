"""FAT12, FAT16 and FAT32."""
