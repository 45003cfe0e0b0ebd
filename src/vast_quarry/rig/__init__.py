"""The practice rig as outside equipment: a camera on a stand, a turntable and lamps behind a small HTTP interface."""
