"""What is learnt from runs: methods compared, errors measured against closed forms or references."""
