"""What the commands share that change something: from words to operations, onto the slate or into a file."""
