"""What each kind of evidence is worth, in log-odds (natural logarithm), added up per suspect.

These are first values, set by hand before there were drills to fit them on: the
confidences that come from them rank suspects, and are not yet calibrated.
"""

PRIOR = -3.0  # a suspect without evidence: about 5 %
EXPLAINS = 4.5  # times the share of the symptom's change that it accounts for
CHANGE_BEFORE_ONSET = 2.0  # its own change, shortly before, with a significant before/after test
FIRST_TO_MOVE = 0.8  # no other suspect's series moved earlier
VERSION_STANDS_OUT = 1.0  # requests that touch the new version are the slow ones
CONTROL_STAYED = 1.2  # instances without the change stayed as they were
CONTROL_MOVED = -1.5  # they did not: the change is not it
MOVED_AFTER_SYMPTOM = -1.5  # an effect, not a cause
LOCALISED = 1.2  # one instance, host or value is bad while its siblings are not
LOAD_EXPLAINS = -2.0  # times the share that traffic alone explains
