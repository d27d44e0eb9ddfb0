"""What the commands share that change something: from arguments to operations, onto the slate or into a file."""
