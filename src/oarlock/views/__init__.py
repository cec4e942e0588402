"""What each stage, the rail, the strip and the logbook say and draw: pure, no session, no Qt."""
