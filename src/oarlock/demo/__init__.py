"""The demo: a river-survey catamaran's sonar winch, from datasheet to proven header."""
