"""The contract of a drive: every parameter, channel, trip and number of the step table, once.

The electronic data sheet and the tables of docs/drive-interface.md are written from it by
`python -m oarlock.drive.contract`; the practice drive, the runner and the dry run read it.
"""
