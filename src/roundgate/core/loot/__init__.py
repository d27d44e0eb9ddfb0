"""What players find: loot as a rulebook describes it, read out of records, and worked out exactly."""
