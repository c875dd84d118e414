"""The Fernbeck Valley otter survey: made-up pictures on made-up media, drawn from a seed."""
