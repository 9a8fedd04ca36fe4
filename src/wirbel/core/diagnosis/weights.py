"""What each kind of evidence is worth, in log-odds (natural logarithm), added up per candidate.

These are set by hand: the confidences that come from them rank candidates, and are not calibrated.
"""

PRIOR = -3.0  # a candidate without evidence: about 5 %
EXPLAINS = 4.5  # times the share of the symptom's change that it accounts for
CHANGE_RESPONSIBLE = 2.0  # its part stepped where a change of it was made, and what was not changed did not
CHANGE_OF_CALLER = 0.6  # what a service's calls of it cost stepped where a change of that service was made
CHANGE_GRADUAL = 0.6  # its part rose gradually, some time after a change of it
FIRST_TO_MOVE = 0.8  # all other parts moved later, beyond both intervals
VERSION_STANDS_OUT = 1.0  # requests that touch the new version are the slow ones
CONTROL_STAYED = 1.2  # what was not changed stayed as it was
MOVED_AFTER_SYMPTOM = -1.5  # an effect, not a cause
LOCALISED = 1.2  # one instance, host or value is bad while others are not
SHARED_HOST = 0.8  # several services stand out on the same host or in the same zone
SAME_REQUESTS = -0.3  # something else marks just the same requests, so that it may be that
LOAD_EXPLAINS = -2.0  # times the share that traffic alone explains
LOAD_SEEN = 0.5  # times log2 of the rise, where it is known what it does
LOAD_ROSE = 1.4  # times log2 of the rise, where it is not known what that much traffic does
DRIFT = -1.5  # the reference wanders nearly as far by itself
"""Evidence against everybody."""
