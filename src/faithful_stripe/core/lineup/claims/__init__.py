"""What somebody states of an array, its own set-up or a person, tried against what the data say."""
