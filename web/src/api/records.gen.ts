// Generated from internal/policy by TestTheConsoleKnowsTheRecords: see “make types”.
import type { components } from "./schema.gen";

type Schemas = components["schemas"];

/** Records are the types of record, each as the service writes it. */
export type Records = {
  rights: Schemas["Right"];
  roles: Schemas["Role"];
  kinds: Schemas["Kind"];
  sites: Schemas["Site"];
  devices: Schemas["Device"];
  device_groups: Schemas["DeviceGroup"];
  users: Schemas["User"];
  user_groups: Schemas["UserGroup"];
  calendars: Schemas["Calendar"];
  schedules: Schemas["Schedule"];
  grants: Schemas["Grant"];
  expectations: Schemas["Expectation"];
  mandates: Schemas["Mandate"];
  settings: Schemas["Settings"];
};

/** RecordField is a field of a record, or of an object within one. */
export type RecordField = {
  name: string;
  path: string;
  kind:
    | "text"
    | "id"
    | "ref"
    | "point"
    | "choice"
    | "switch"
    | "bool"
    | "tri"
    | "number"
    | "instant"
    | "date"
    | "month_day"
    | "clock"
    | "network"
    | "zone"
    | "limits"
    | "object";
  many?: boolean;
  ref?: string;
  choices?: string[];
  required?: boolean;
  long?: boolean;
  own?: boolean;
  fields?: RecordField[];
};

export const records: { [T in keyof Records]: RecordField[] } = {
  "calendars": [
    {
      "name": "id",
      "path": "id",
      "kind": "id",
      "ref": "calendars",
      "required": true
    },
    {
      "name": "name",
      "path": "name",
      "kind": "text"
    },
    {
      "name": "days",
      "path": "days",
      "kind": "object",
      "many": true,
      "fields": [
        {
          "name": "date",
          "path": "days.date",
          "kind": "date"
        },
        {
          "name": "from",
          "path": "days.from",
          "kind": "date"
        },
        {
          "name": "to",
          "path": "days.to",
          "kind": "date"
        },
        {
          "name": "name",
          "path": "days.name",
          "kind": "text"
        }
      ]
    },
    {
      "name": "note",
      "path": "note",
      "kind": "text",
      "long": true
    }
  ],
  "device_groups": [
    {
      "name": "id",
      "path": "id",
      "kind": "id",
      "ref": "device_groups",
      "required": true
    },
    {
      "name": "name",
      "path": "name",
      "kind": "text"
    },
    {
      "name": "parent",
      "path": "parent",
      "kind": "ref",
      "ref": "device_groups"
    },
    {
      "name": "devices",
      "path": "devices",
      "kind": "ref",
      "many": true,
      "ref": "devices"
    },
    {
      "name": "match",
      "path": "match",
      "kind": "object",
      "fields": [
        {
          "name": "kinds",
          "path": "match.kinds",
          "kind": "ref",
          "many": true,
          "ref": "kinds"
        },
        {
          "name": "tags",
          "path": "match.tags",
          "kind": "text",
          "many": true
        },
        {
          "name": "sites",
          "path": "match.sites",
          "kind": "ref",
          "many": true,
          "ref": "sites"
        }
      ]
    },
    {
      "name": "note",
      "path": "note",
      "kind": "text",
      "long": true
    }
  ],
  "devices": [
    {
      "name": "id",
      "path": "id",
      "kind": "id",
      "ref": "devices",
      "required": true
    },
    {
      "name": "name",
      "path": "name",
      "kind": "text"
    },
    {
      "name": "kind",
      "path": "kind",
      "kind": "ref",
      "ref": "kinds"
    },
    {
      "name": "site",
      "path": "site",
      "kind": "ref",
      "ref": "sites"
    },
    {
      "name": "tags",
      "path": "tags",
      "kind": "text",
      "many": true
    },
    {
      "name": "state",
      "path": "state",
      "kind": "choice",
      "choices": [
        "in-service",
        "maintenance",
        "retired"
      ]
    },
    {
      "name": "points",
      "path": "points",
      "kind": "object",
      "many": true,
      "fields": [
        {
          "name": "id",
          "path": "points.id",
          "kind": "id",
          "required": true
        },
        {
          "name": "name",
          "path": "points.name",
          "kind": "text"
        }
      ]
    },
    {
      "name": "lockout",
      "path": "lockout",
      "kind": "object",
      "own": true,
      "fields": [
        {
          "name": "by",
          "path": "lockout.by",
          "kind": "text"
        },
        {
          "name": "reason",
          "path": "lockout.reason",
          "kind": "text"
        },
        {
          "name": "from",
          "path": "lockout.from",
          "kind": "instant"
        },
        {
          "name": "until",
          "path": "lockout.until",
          "kind": "instant"
        }
      ]
    },
    {
      "name": "address",
      "path": "address",
      "kind": "text"
    },
    {
      "name": "note",
      "path": "note",
      "kind": "text",
      "long": true
    }
  ],
  "expectations": [
    {
      "name": "id",
      "path": "id",
      "kind": "id",
      "ref": "expectations",
      "required": true
    },
    {
      "name": "name",
      "path": "name",
      "kind": "text"
    },
    {
      "name": "who",
      "path": "who",
      "kind": "object",
      "fields": [
        {
          "name": "groups",
          "path": "who.groups",
          "kind": "ref",
          "many": true,
          "ref": "user_groups"
        },
        {
          "name": "users",
          "path": "who.users",
          "kind": "ref",
          "many": true,
          "ref": "users"
        },
        {
          "name": "everyone",
          "path": "who.everyone",
          "kind": "bool"
        }
      ]
    },
    {
      "name": "except",
      "path": "except",
      "kind": "object",
      "fields": [
        {
          "name": "groups",
          "path": "except.groups",
          "kind": "ref",
          "many": true,
          "ref": "user_groups"
        },
        {
          "name": "users",
          "path": "except.users",
          "kind": "ref",
          "many": true,
          "ref": "users"
        }
      ]
    },
    {
      "name": "rights",
      "path": "rights",
      "kind": "ref",
      "many": true,
      "ref": "rights"
    },
    {
      "name": "on",
      "path": "on",
      "kind": "object",
      "fields": [
        {
          "name": "everything",
          "path": "on.everything",
          "kind": "bool"
        },
        {
          "name": "sites",
          "path": "on.sites",
          "kind": "ref",
          "many": true,
          "ref": "sites"
        },
        {
          "name": "device_groups",
          "path": "on.device_groups",
          "kind": "ref",
          "many": true,
          "ref": "device_groups"
        },
        {
          "name": "devices",
          "path": "on.devices",
          "kind": "ref",
          "many": true,
          "ref": "devices"
        },
        {
          "name": "points",
          "path": "on.points",
          "kind": "point",
          "many": true
        }
      ]
    },
    {
      "name": "depth",
      "path": "depth",
      "kind": "choice",
      "choices": [
        "all",
        "here"
      ]
    },
    {
      "name": "when",
      "path": "when",
      "kind": "ref",
      "many": true,
      "ref": "schedules"
    },
    {
      "name": "expect",
      "path": "expect",
      "kind": "choice",
      "choices": [
        "never",
        "always",
        "someone"
      ],
      "required": true
    },
    {
      "name": "at_least",
      "path": "at_least",
      "kind": "number"
    },
    {
      "name": "note",
      "path": "note",
      "kind": "text",
      "long": true
    }
  ],
  "grants": [
    {
      "name": "id",
      "path": "id",
      "kind": "id",
      "ref": "grants",
      "required": true
    },
    {
      "name": "name",
      "path": "name",
      "kind": "text"
    },
    {
      "name": "effect",
      "path": "effect",
      "kind": "choice",
      "choices": [
        "allow",
        "deny"
      ]
    },
    {
      "name": "enabled",
      "path": "enabled",
      "kind": "switch"
    },
    {
      "name": "to",
      "path": "to",
      "kind": "object",
      "fields": [
        {
          "name": "groups",
          "path": "to.groups",
          "kind": "ref",
          "many": true,
          "ref": "user_groups"
        },
        {
          "name": "users",
          "path": "to.users",
          "kind": "ref",
          "many": true,
          "ref": "users"
        },
        {
          "name": "everyone",
          "path": "to.everyone",
          "kind": "bool"
        }
      ]
    },
    {
      "name": "valid",
      "path": "valid",
      "kind": "object",
      "fields": [
        {
          "name": "from",
          "path": "valid.from",
          "kind": "instant"
        },
        {
          "name": "until",
          "path": "valid.until",
          "kind": "instant"
        }
      ]
    },
    {
      "name": "lines",
      "path": "lines",
      "kind": "object",
      "many": true,
      "fields": [
        {
          "name": "rights",
          "path": "lines.rights",
          "kind": "ref",
          "many": true,
          "ref": "rights"
        },
        {
          "name": "roles",
          "path": "lines.roles",
          "kind": "ref",
          "many": true,
          "ref": "roles"
        },
        {
          "name": "on",
          "path": "lines.on",
          "kind": "object",
          "fields": [
            {
              "name": "everything",
              "path": "lines.on.everything",
              "kind": "bool"
            },
            {
              "name": "sites",
              "path": "lines.on.sites",
              "kind": "ref",
              "many": true,
              "ref": "sites"
            },
            {
              "name": "device_groups",
              "path": "lines.on.device_groups",
              "kind": "ref",
              "many": true,
              "ref": "device_groups"
            },
            {
              "name": "devices",
              "path": "lines.on.devices",
              "kind": "ref",
              "many": true,
              "ref": "devices"
            },
            {
              "name": "points",
              "path": "lines.on.points",
              "kind": "point",
              "many": true
            }
          ]
        },
        {
          "name": "depth",
          "path": "lines.depth",
          "kind": "choice",
          "choices": [
            "all",
            "here"
          ]
        },
        {
          "name": "when",
          "path": "lines.when",
          "kind": "ref",
          "many": true,
          "ref": "schedules"
        },
        {
          "name": "if",
          "path": "lines.if",
          "kind": "object",
          "fields": [
            {
              "name": "networks",
              "path": "lines.if.networks",
              "kind": "network",
              "many": true
            },
            {
              "name": "places",
              "path": "lines.if.places",
              "kind": "ref",
              "many": true,
              "ref": "sites"
            },
            {
              "name": "states",
              "path": "lines.if.states",
              "kind": "choice",
              "many": true,
              "choices": [
                "in-service",
                "maintenance",
                "retired"
              ]
            },
            {
              "name": "strong_sign_in",
              "path": "lines.if.strong_sign_in",
              "kind": "tri"
            },
            {
              "name": "attended",
              "path": "lines.if.attended",
              "kind": "tri"
            }
          ]
        },
        {
          "name": "limits",
          "path": "lines.limits",
          "kind": "limits"
        }
      ]
    },
    {
      "name": "note",
      "path": "note",
      "kind": "text",
      "long": true
    }
  ],
  "kinds": [
    {
      "name": "id",
      "path": "id",
      "kind": "id",
      "ref": "kinds",
      "required": true
    },
    {
      "name": "name",
      "path": "name",
      "kind": "text"
    },
    {
      "name": "note",
      "path": "note",
      "kind": "text",
      "long": true
    }
  ],
  "mandates": [
    {
      "name": "id",
      "path": "id",
      "kind": "id",
      "ref": "mandates",
      "required": true
    },
    {
      "name": "name",
      "path": "name",
      "kind": "text"
    },
    {
      "name": "enabled",
      "path": "enabled",
      "kind": "switch"
    },
    {
      "name": "to",
      "path": "to",
      "kind": "object",
      "fields": [
        {
          "name": "groups",
          "path": "to.groups",
          "kind": "ref",
          "many": true,
          "ref": "user_groups"
        },
        {
          "name": "users",
          "path": "to.users",
          "kind": "ref",
          "many": true,
          "ref": "users"
        }
      ]
    },
    {
      "name": "valid",
      "path": "valid",
      "kind": "object",
      "fields": [
        {
          "name": "from",
          "path": "valid.from",
          "kind": "instant"
        },
        {
          "name": "until",
          "path": "valid.until",
          "kind": "instant"
        }
      ]
    },
    {
      "name": "role",
      "path": "role",
      "kind": "choice",
      "choices": [
        "owner",
        "delegate",
        "auditor",
        "enforcement"
      ],
      "required": true
    },
    {
      "name": "sites",
      "path": "sites",
      "kind": "ref",
      "many": true,
      "ref": "sites"
    },
    {
      "name": "groups",
      "path": "groups",
      "kind": "ref",
      "many": true,
      "ref": "user_groups"
    },
    {
      "name": "rights",
      "path": "rights",
      "kind": "ref",
      "many": true,
      "ref": "rights"
    },
    {
      "name": "note",
      "path": "note",
      "kind": "text",
      "long": true
    }
  ],
  "rights": [
    {
      "name": "id",
      "path": "id",
      "kind": "id",
      "ref": "rights",
      "required": true
    },
    {
      "name": "name",
      "path": "name",
      "kind": "text"
    },
    {
      "name": "implies",
      "path": "implies",
      "kind": "ref",
      "many": true,
      "ref": "rights"
    },
    {
      "name": "kinds",
      "path": "kinds",
      "kind": "ref",
      "many": true,
      "ref": "kinds"
    },
    {
      "name": "note",
      "path": "note",
      "kind": "text",
      "long": true
    }
  ],
  "roles": [
    {
      "name": "id",
      "path": "id",
      "kind": "id",
      "ref": "roles",
      "required": true
    },
    {
      "name": "name",
      "path": "name",
      "kind": "text"
    },
    {
      "name": "rights",
      "path": "rights",
      "kind": "ref",
      "many": true,
      "ref": "rights"
    },
    {
      "name": "note",
      "path": "note",
      "kind": "text",
      "long": true
    }
  ],
  "schedules": [
    {
      "name": "id",
      "path": "id",
      "kind": "id",
      "ref": "schedules",
      "required": true
    },
    {
      "name": "name",
      "path": "name",
      "kind": "text"
    },
    {
      "name": "zone",
      "path": "zone",
      "kind": "zone"
    },
    {
      "name": "windows",
      "path": "windows",
      "kind": "object",
      "many": true,
      "fields": [
        {
          "name": "days",
          "path": "windows.days",
          "kind": "choice",
          "many": true,
          "choices": [
            "mon",
            "tue",
            "wed",
            "thu",
            "fri",
            "sat",
            "sun"
          ]
        },
        {
          "name": "from",
          "path": "windows.from",
          "kind": "clock",
          "required": true
        },
        {
          "name": "to",
          "path": "windows.to",
          "kind": "clock",
          "required": true
        }
      ]
    },
    {
      "name": "season",
      "path": "season",
      "kind": "object",
      "fields": [
        {
          "name": "from",
          "path": "season.from",
          "kind": "month_day",
          "required": true
        },
        {
          "name": "to",
          "path": "season.to",
          "kind": "month_day",
          "required": true
        }
      ]
    },
    {
      "name": "dates",
      "path": "dates",
      "kind": "object",
      "fields": [
        {
          "name": "from",
          "path": "dates.from",
          "kind": "date"
        },
        {
          "name": "to",
          "path": "dates.to",
          "kind": "date"
        }
      ]
    },
    {
      "name": "closed",
      "path": "closed",
      "kind": "ref",
      "many": true,
      "ref": "calendars"
    },
    {
      "name": "special",
      "path": "special",
      "kind": "object",
      "many": true,
      "fields": [
        {
          "name": "calendar",
          "path": "special.calendar",
          "kind": "ref",
          "ref": "calendars",
          "required": true
        },
        {
          "name": "windows",
          "path": "special.windows",
          "kind": "object",
          "many": true,
          "fields": [
            {
              "name": "from",
              "path": "special.windows.from",
              "kind": "clock",
              "required": true
            },
            {
              "name": "to",
              "path": "special.windows.to",
              "kind": "clock",
              "required": true
            }
          ]
        }
      ]
    },
    {
      "name": "note",
      "path": "note",
      "kind": "text",
      "long": true
    }
  ],
  "settings": [
    {
      "name": "combine",
      "path": "combine",
      "kind": "choice",
      "choices": [
        "sum",
        "direct-first"
      ]
    },
    {
      "name": "zone",
      "path": "zone",
      "kind": "zone"
    },
    {
      "name": "note",
      "path": "note",
      "kind": "text",
      "long": true
    }
  ],
  "sites": [
    {
      "name": "id",
      "path": "id",
      "kind": "id",
      "ref": "sites",
      "required": true
    },
    {
      "name": "name",
      "path": "name",
      "kind": "text"
    },
    {
      "name": "parent",
      "path": "parent",
      "kind": "ref",
      "ref": "sites"
    },
    {
      "name": "zone",
      "path": "zone",
      "kind": "zone"
    },
    {
      "name": "note",
      "path": "note",
      "kind": "text",
      "long": true
    }
  ],
  "user_groups": [
    {
      "name": "id",
      "path": "id",
      "kind": "id",
      "ref": "user_groups",
      "required": true
    },
    {
      "name": "name",
      "path": "name",
      "kind": "text"
    },
    {
      "name": "enabled",
      "path": "enabled",
      "kind": "switch"
    },
    {
      "name": "includes",
      "path": "includes",
      "kind": "ref",
      "many": true,
      "ref": "user_groups"
    },
    {
      "name": "members",
      "path": "members",
      "kind": "object",
      "many": true,
      "fields": [
        {
          "name": "user",
          "path": "members.user",
          "kind": "ref",
          "ref": "users",
          "required": true
        },
        {
          "name": "from",
          "path": "members.from",
          "kind": "instant"
        },
        {
          "name": "until",
          "path": "members.until",
          "kind": "instant"
        }
      ]
    },
    {
      "name": "sign_in",
      "path": "sign_in",
      "kind": "object",
      "fields": [
        {
          "name": "second_factor",
          "path": "sign_in.second_factor",
          "kind": "choice",
          "choices": [
            "optional",
            "required"
          ]
        },
        {
          "name": "password_days",
          "path": "sign_in.password_days",
          "kind": "number"
        }
      ]
    },
    {
      "name": "join",
      "path": "join",
      "kind": "object",
      "fields": [
        {
          "name": "groups",
          "path": "join.groups",
          "kind": "ref",
          "many": true,
          "ref": "user_groups"
        },
        {
          "name": "minutes",
          "path": "join.minutes",
          "kind": "number"
        },
        {
          "name": "approval",
          "path": "join.approval",
          "kind": "choice",
          "choices": [
            "mandate",
            "none"
          ]
        }
      ]
    },
    {
      "name": "note",
      "path": "note",
      "kind": "text",
      "long": true
    }
  ],
  "users": [
    {
      "name": "id",
      "path": "id",
      "kind": "id",
      "ref": "users",
      "required": true
    },
    {
      "name": "name",
      "path": "name",
      "kind": "text"
    },
    {
      "name": "email",
      "path": "email",
      "kind": "text",
      "own": true
    },
    {
      "name": "kind",
      "path": "kind",
      "kind": "choice",
      "choices": [
        "person",
        "service"
      ]
    },
    {
      "name": "status",
      "path": "status",
      "kind": "choice",
      "choices": [
        "active",
        "invited",
        "suspended"
      ]
    },
    {
      "name": "valid",
      "path": "valid",
      "kind": "object",
      "fields": [
        {
          "name": "from",
          "path": "valid.from",
          "kind": "instant"
        },
        {
          "name": "until",
          "path": "valid.until",
          "kind": "instant"
        }
      ]
    },
    {
      "name": "note",
      "path": "note",
      "kind": "text",
      "long": true
    }
  ]
};
