"""What an axis will do before the real one moves: a scenario through the whole cascade."""
