"""What a find is worth: isolated decoding, the thumbnail as witness, and the grade."""
