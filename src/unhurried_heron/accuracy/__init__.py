"""Methods compared, errors measured against closed forms or references, digits certified."""
