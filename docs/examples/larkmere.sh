#!/usr/bin/env bash
# Builds the Larkmere Navigation from nothing, record by record, in the order in which the work is done.
# It starts from the policy that “sentier init --owner ines.carvalho” leaves, and is run by the tests.
set -euo pipefail
sentier() { command sentier "$@" >/dev/null; }


# Settings, kinds of device, rights and roles
sentier settings --zone Europe/Lisbon
sentier kind add lock-gate --name 'Lock gate'
sentier kind add sluice --name Sluice
sentier kind add lift-bridge --name 'Lift bridge'
sentier kind add pump --name Pump
sentier kind add level-gauge --name 'Level gauge'
sentier kind add siren --name Siren
sentier kind add towpath-light --name 'Towpath light'
sentier kind add weather-mast --name 'Weather mast'
sentier right add history --name 'Read history' --implies view
sentier right add acknowledge --name 'Acknowledge alarms' --implies view
sentier right add setpoint --name 'Change setpoint' --implies control --kinds pump,sluice
sentier right add calibrate --name Calibrate --implies history --kinds level-gauge
sentier right add release --name 'Emergency release' --implies control --kinds lift-bridge,lock-gate
sentier role add lock-keeping --name 'Lock keeping' --rights control,acknowledge --role-note 'Work gates and sluices, and acknowledge what they report.'
sentier role add bridge-watch --name 'Bridge watch' --rights control,acknowledge --role-note 'Lift and lower bridges.'
sentier role add water-control --name 'Water control' --rights setpoint,history,acknowledge --role-note 'Set pumps and sluices, with past readings beside.'
sentier role add instrument-care --name 'Instrument care' --rights calibrate,acknowledge --role-note 'Calibrate gauges and read what they recorded.'
sentier role add look-only --name 'Look only' --rights view --role-note 'See the present state, touch nothing.'
sentier role add night-backup --name 'Night backup' --rights history --role-note 'For the service that copies readings each night.'

# What there is
sentier site add larkmere --name 'Larkmere Navigation' --zone Europe/Lisbon
sentier site add tidal-reach --name 'Tidal Reach' --parent larkmere
sentier site add estuary-gate --name 'Estuary Gate' --parent tidal-reach
sentier site add saltmarsh --name Saltmarsh --parent tidal-reach
sentier site add lower-pounds --name 'Lower Pounds' --parent larkmere
sentier site add brindle-flight --name 'Brindle Flight' --parent lower-pounds --site-note 'Five locks in a row: boats pass in one direction at a time.'
sentier site add mill-basin --name 'Mill Basin' --parent lower-pounds
sentier site add summit --name Summit --parent larkmere
sentier site add summit-reservoir --name 'Summit Reservoir' --parent summit
sentier site add tunnel --name Tunnel --parent summit
sentier site add border-arm --name 'Border Arm' --parent larkmere --zone Europe/Madrid
sentier site add alder-cut --name 'Alder Cut' --parent border-arm
sentier site add twin-bridges --name 'Twin Bridges' --parent border-arm
sentier site add works-yard --name 'Works Yard' --parent larkmere
sentier site add control-room --name 'Control Room' --parent larkmere
sentier device add estuary-gate-1 --name 'Estuary gate 1' --kind lock-gate --site estuary-gate --tags moves,tidal,critical --address plc-estuary.larkmere.example:4001
sentier device add estuary-gate-2 --name 'Estuary gate 2' --kind lock-gate --site estuary-gate --tags moves,tidal,critical --address plc-estuary.larkmere.example:4002
sentier device add estuary-sluice-1 --name 'Estuary sluice 1' --kind sluice --site estuary-gate --tags tidal --points 'paddle-a=Paddle A,paddle-b=Paddle B' --address plc-estuary.larkmere.example:4003
sentier device add estuary-sluice-2 --name 'Estuary sluice 2' --kind sluice --site estuary-gate --tags tidal --points 'paddle-a=Paddle A,paddle-b=Paddle B' --address plc-estuary.larkmere.example:4004
sentier device add estuary-sluice-3 --name 'Estuary sluice 3' --kind sluice --site estuary-gate --tags tidal --points 'paddle-a=Paddle A,paddle-b=Paddle B' --address plc-estuary.larkmere.example:4005
sentier device add estuary-sluice-4 --name 'Estuary sluice 4' --kind sluice --site estuary-gate --tags tidal --points 'paddle-a=Paddle A,paddle-b=Paddle B' --address plc-estuary.larkmere.example:4006
sentier device add estuary-pump-1 --name 'Estuary pump 1' --kind pump --site estuary-gate --tags tidal --address plc-estuary.larkmere.example:4007
sentier device add estuary-pump-2 --name 'Estuary pump 2' --kind pump --site estuary-gate --tags tidal --address plc-estuary.larkmere.example:4008
sentier device add estuary-gauge-1 --name 'Estuary gauge 1' --kind level-gauge --site estuary-gate --tags tidal --address plc-estuary.larkmere.example:4009
sentier device add estuary-gauge-2 --name 'Estuary gauge 2' --kind level-gauge --site estuary-gate --tags tidal --address plc-estuary.larkmere.example:4010
sentier device add estuary-gauge-3 --name 'Estuary gauge 3' --kind level-gauge --site estuary-gate --tags tidal --address plc-estuary.larkmere.example:4011
sentier device add estuary-gauge-4 --name 'Estuary gauge 4' --kind level-gauge --site estuary-gate --tags tidal --address plc-estuary.larkmere.example:4012
sentier device add estuary-siren-1 --name 'Estuary siren 1' --kind siren --site estuary-gate --tags tidal --address plc-estuary.larkmere.example:4013
sentier device add estuary-siren-2 --name 'Estuary siren 2' --kind siren --site estuary-gate --tags tidal --address plc-estuary.larkmere.example:4014
sentier device add estuary-light-1 --name 'Estuary light 1' --kind towpath-light --site estuary-gate --tags tidal --address plc-estuary.larkmere.example:4015
sentier device add estuary-light-2 --name 'Estuary light 2' --kind towpath-light --site estuary-gate --tags tidal --address plc-estuary.larkmere.example:4016
sentier device add estuary-light-3 --name 'Estuary light 3' --kind towpath-light --site estuary-gate --tags tidal --address plc-estuary.larkmere.example:4017
sentier device add estuary-light-4 --name 'Estuary light 4' --kind towpath-light --site estuary-gate --tags tidal --address plc-estuary.larkmere.example:4018
sentier device add estuary-light-5 --name 'Estuary light 5' --kind towpath-light --site estuary-gate --tags tidal --address plc-estuary.larkmere.example:4019
sentier device add estuary-light-6 --name 'Estuary light 6' --kind towpath-light --site estuary-gate --tags tidal --address plc-estuary.larkmere.example:4020
sentier device add estuary-light-7 --name 'Estuary light 7' --kind towpath-light --site estuary-gate --tags tidal --address plc-estuary.larkmere.example:4021
sentier device add estuary-light-8 --name 'Estuary light 8' --kind towpath-light --site estuary-gate --tags tidal --address plc-estuary.larkmere.example:4022
sentier device add estuary-mast --name 'Estuary mast' --kind weather-mast --site estuary-gate --tags tidal --address plc-estuary.larkmere.example:4023
sentier device add saltmarsh-sluice-1 --name 'Saltmarsh sluice 1' --kind sluice --site saltmarsh --tags tidal --points 'paddle-a=Paddle A,paddle-b=Paddle B' --address plc-saltmarsh.larkmere.example:4024
sentier device add saltmarsh-sluice-2 --name 'Saltmarsh sluice 2' --kind sluice --site saltmarsh --tags tidal --points 'paddle-a=Paddle A,paddle-b=Paddle B' --address plc-saltmarsh.larkmere.example:4025
sentier device add saltmarsh-sluice-3 --name 'Saltmarsh sluice 3' --kind sluice --site saltmarsh --tags tidal --points 'paddle-a=Paddle A,paddle-b=Paddle B' --address plc-saltmarsh.larkmere.example:4026
sentier device add saltmarsh-sluice-4 --name 'Saltmarsh sluice 4' --kind sluice --site saltmarsh --tags tidal --points 'paddle-a=Paddle A,paddle-b=Paddle B' --address plc-saltmarsh.larkmere.example:4027
sentier device add saltmarsh-gauge-1 --name 'Saltmarsh gauge 1' --kind level-gauge --site saltmarsh --tags tidal --address plc-saltmarsh.larkmere.example:4028
sentier device add saltmarsh-gauge-2 --name 'Saltmarsh gauge 2' --kind level-gauge --site saltmarsh --tags tidal --address plc-saltmarsh.larkmere.example:4029
sentier device add saltmarsh-gauge-3 --name 'Saltmarsh gauge 3' --kind level-gauge --site saltmarsh --tags tidal --address plc-saltmarsh.larkmere.example:4030
sentier device add saltmarsh-gauge-4 --name 'Saltmarsh gauge 4' --kind level-gauge --site saltmarsh --tags tidal --address plc-saltmarsh.larkmere.example:4031
sentier device add saltmarsh-siren --name 'Saltmarsh siren' --kind siren --site saltmarsh --tags tidal --address plc-saltmarsh.larkmere.example:4032
sentier device add saltmarsh-light-1 --name 'Saltmarsh light 1' --kind towpath-light --site saltmarsh --tags tidal --address plc-saltmarsh.larkmere.example:4033
sentier device add saltmarsh-light-2 --name 'Saltmarsh light 2' --kind towpath-light --site saltmarsh --tags tidal --address plc-saltmarsh.larkmere.example:4034
sentier device add saltmarsh-light-3 --name 'Saltmarsh light 3' --kind towpath-light --site saltmarsh --tags tidal --address plc-saltmarsh.larkmere.example:4035
sentier device add saltmarsh-light-4 --name 'Saltmarsh light 4' --kind towpath-light --site saltmarsh --tags tidal --address plc-saltmarsh.larkmere.example:4036
sentier device add saltmarsh-light-5 --name 'Saltmarsh light 5' --kind towpath-light --site saltmarsh --tags tidal --address plc-saltmarsh.larkmere.example:4037
sentier device add saltmarsh-light-6 --name 'Saltmarsh light 6' --kind towpath-light --site saltmarsh --tags tidal --address plc-saltmarsh.larkmere.example:4038
sentier device add saltmarsh-mast --name 'Saltmarsh mast' --kind weather-mast --site saltmarsh --tags tidal --address plc-saltmarsh.larkmere.example:4039
sentier device add brindle-gate-1 --name 'Brindle gate 1' --kind lock-gate --site brindle-flight --tags moves --address plc-brindle.larkmere.example:4040
sentier device add brindle-gate-2 --name 'Brindle gate 2' --kind lock-gate --site brindle-flight --tags moves --address plc-brindle.larkmere.example:4041
sentier device add brindle-gate-3 --name 'Brindle gate 3' --kind lock-gate --site brindle-flight --tags moves --address plc-brindle.larkmere.example:4042
sentier device add brindle-gate-4 --name 'Brindle gate 4' --kind lock-gate --site brindle-flight --tags moves --address plc-brindle.larkmere.example:4043
sentier device add brindle-gate-5 --name 'Brindle gate 5' --kind lock-gate --site brindle-flight --tags moves --address plc-brindle.larkmere.example:4044
sentier device add brindle-gate-6 --name 'Brindle gate 6' --kind lock-gate --site brindle-flight --tags moves --address plc-brindle.larkmere.example:4045
sentier device add brindle-gate-7 --name 'Brindle gate 7' --kind lock-gate --site brindle-flight --tags moves --address plc-brindle.larkmere.example:4046
sentier device add brindle-gate-8 --name 'Brindle gate 8' --kind lock-gate --site brindle-flight --tags moves --address plc-brindle.larkmere.example:4047
sentier device add brindle-gate-9 --name 'Brindle gate 9' --kind lock-gate --site brindle-flight --tags moves --address plc-brindle.larkmere.example:4048
sentier device add brindle-gate-10 --name 'Brindle gate 10' --kind lock-gate --site brindle-flight --tags moves --address plc-brindle.larkmere.example:4049
sentier device add brindle-sluice-1 --name 'Brindle sluice 1' --kind sluice --site brindle-flight --points 'paddle-a=Paddle A,paddle-b=Paddle B' --address plc-brindle.larkmere.example:4050
sentier device add brindle-sluice-2 --name 'Brindle sluice 2' --kind sluice --site brindle-flight --points 'paddle-a=Paddle A,paddle-b=Paddle B' --address plc-brindle.larkmere.example:4051
sentier device add brindle-sluice-3 --name 'Brindle sluice 3' --kind sluice --site brindle-flight --points 'paddle-a=Paddle A,paddle-b=Paddle B' --address plc-brindle.larkmere.example:4052
sentier device add brindle-sluice-4 --name 'Brindle sluice 4' --kind sluice --site brindle-flight --points 'paddle-a=Paddle A,paddle-b=Paddle B' --address plc-brindle.larkmere.example:4053
sentier device add brindle-sluice-5 --name 'Brindle sluice 5' --kind sluice --site brindle-flight --points 'paddle-a=Paddle A,paddle-b=Paddle B' --address plc-brindle.larkmere.example:4054
sentier device add brindle-sluice-6 --name 'Brindle sluice 6' --kind sluice --site brindle-flight --points 'paddle-a=Paddle A,paddle-b=Paddle B' --address plc-brindle.larkmere.example:4055
sentier device add brindle-sluice-7 --name 'Brindle sluice 7' --kind sluice --site brindle-flight --points 'paddle-a=Paddle A,paddle-b=Paddle B' --address plc-brindle.larkmere.example:4056
sentier device add brindle-sluice-8 --name 'Brindle sluice 8' --kind sluice --site brindle-flight --points 'paddle-a=Paddle A,paddle-b=Paddle B' --address plc-brindle.larkmere.example:4057
sentier device add brindle-sluice-9 --name 'Brindle sluice 9' --kind sluice --site brindle-flight --points 'paddle-a=Paddle A,paddle-b=Paddle B' --address plc-brindle.larkmere.example:4058
sentier device add brindle-sluice-10 --name 'Brindle sluice 10' --kind sluice --site brindle-flight --points 'paddle-a=Paddle A,paddle-b=Paddle B' --address plc-brindle.larkmere.example:4059
sentier device add brindle-gauge-1 --name 'Brindle gauge 1' --kind level-gauge --site brindle-flight --address plc-brindle.larkmere.example:4060
sentier device add brindle-gauge-2 --name 'Brindle gauge 2' --kind level-gauge --site brindle-flight --address plc-brindle.larkmere.example:4061
sentier device add brindle-gauge-3 --name 'Brindle gauge 3' --kind level-gauge --site brindle-flight --address plc-brindle.larkmere.example:4062
sentier device add brindle-gauge-4 --name 'Brindle gauge 4' --kind level-gauge --site brindle-flight --address plc-brindle.larkmere.example:4063
sentier device add brindle-gauge-5 --name 'Brindle gauge 5' --kind level-gauge --site brindle-flight --address plc-brindle.larkmere.example:4064
sentier device add brindle-gauge-6 --name 'Brindle gauge 6' --kind level-gauge --site brindle-flight --address plc-brindle.larkmere.example:4065
sentier device add brindle-siren --name 'Brindle siren' --kind siren --site brindle-flight --address plc-brindle.larkmere.example:4066
sentier device add brindle-light-1 --name 'Brindle light 1' --kind towpath-light --site brindle-flight --address plc-brindle.larkmere.example:4067
sentier device add brindle-light-2 --name 'Brindle light 2' --kind towpath-light --site brindle-flight --address plc-brindle.larkmere.example:4068
sentier device add brindle-light-3 --name 'Brindle light 3' --kind towpath-light --site brindle-flight --address plc-brindle.larkmere.example:4069
sentier device add brindle-light-4 --name 'Brindle light 4' --kind towpath-light --site brindle-flight --address plc-brindle.larkmere.example:4070
sentier device add brindle-light-5 --name 'Brindle light 5' --kind towpath-light --site brindle-flight --address plc-brindle.larkmere.example:4071
sentier device add brindle-light-6 --name 'Brindle light 6' --kind towpath-light --site brindle-flight --address plc-brindle.larkmere.example:4072
sentier device add mill-gate-1 --name 'Mill gate 1' --kind lock-gate --site mill-basin --tags moves --address plc-mill.larkmere.example:4073
sentier device add mill-gate-2 --name 'Mill gate 2' --kind lock-gate --site mill-basin --tags moves --address plc-mill.larkmere.example:4074
sentier device add mill-sluice-1 --name 'Mill sluice 1' --kind sluice --site mill-basin --points 'paddle-a=Paddle A,paddle-b=Paddle B' --address plc-mill.larkmere.example:4075
sentier device add mill-sluice-2 --name 'Mill sluice 2' --kind sluice --site mill-basin --points 'paddle-a=Paddle A,paddle-b=Paddle B' --address plc-mill.larkmere.example:4076
sentier device add mill-sluice-3 --name 'Mill sluice 3' --kind sluice --site mill-basin --points 'paddle-a=Paddle A,paddle-b=Paddle B' --address plc-mill.larkmere.example:4077
sentier device add mill-bridge --name 'Mill bridge' --kind lift-bridge --site mill-basin --tags moves,critical --points deck=Deck,barriers=Barriers,signals=Signals --address plc-mill.larkmere.example:4078 --device-note 'The deck needs eight minutes to come down.'
sentier device add mill-pump-1 --name 'Mill pump 1' --kind pump --site mill-basin --address plc-mill.larkmere.example:4079
sentier device add mill-pump-2 --name 'Mill pump 2' --kind pump --site mill-basin --address plc-mill.larkmere.example:4080
sentier device add mill-pump-3 --name 'Mill pump 3' --kind pump --site mill-basin --address plc-mill.larkmere.example:4081
sentier device add mill-gauge-1 --name 'Mill gauge 1' --kind level-gauge --site mill-basin --address plc-mill.larkmere.example:4082
sentier device add mill-gauge-2 --name 'Mill gauge 2' --kind level-gauge --site mill-basin --address plc-mill.larkmere.example:4083
sentier device add mill-gauge-3 --name 'Mill gauge 3' --kind level-gauge --site mill-basin --address plc-mill.larkmere.example:4084
sentier device add mill-gauge-4 --name 'Mill gauge 4' --kind level-gauge --site mill-basin --address plc-mill.larkmere.example:4085
sentier device add mill-light-1 --name 'Mill light 1' --kind towpath-light --site mill-basin --address plc-mill.larkmere.example:4086
sentier device add mill-light-2 --name 'Mill light 2' --kind towpath-light --site mill-basin --address plc-mill.larkmere.example:4087
sentier device add mill-light-3 --name 'Mill light 3' --kind towpath-light --site mill-basin --address plc-mill.larkmere.example:4088
sentier device add mill-light-4 --name 'Mill light 4' --kind towpath-light --site mill-basin --address plc-mill.larkmere.example:4089
sentier device add mill-light-5 --name 'Mill light 5' --kind towpath-light --site mill-basin --address plc-mill.larkmere.example:4090
sentier device add reservoir-sluice-1 --name 'Reservoir sluice 1' --kind sluice --site summit-reservoir --tags critical --points 'paddle-a=Paddle A,paddle-b=Paddle B' --address plc-reservoir.larkmere.example:4091
sentier device add reservoir-sluice-2 --name 'Reservoir sluice 2' --kind sluice --site summit-reservoir --tags critical --points 'paddle-a=Paddle A,paddle-b=Paddle B' --address plc-reservoir.larkmere.example:4092
sentier device add reservoir-sluice-3 --name 'Reservoir sluice 3' --kind sluice --site summit-reservoir --points 'paddle-a=Paddle A,paddle-b=Paddle B' --address plc-reservoir.larkmere.example:4093
sentier device add reservoir-sluice-4 --name 'Reservoir sluice 4' --kind sluice --site summit-reservoir --points 'paddle-a=Paddle A,paddle-b=Paddle B' --address plc-reservoir.larkmere.example:4094
sentier device add reservoir-pump-1 --name 'Reservoir pump 1' --kind pump --site summit-reservoir --tags critical --address plc-reservoir.larkmere.example:4095
sentier device add reservoir-pump-2 --name 'Reservoir pump 2' --kind pump --site summit-reservoir --tags critical --address plc-reservoir.larkmere.example:4096
sentier device add reservoir-pump-3 --name 'Reservoir pump 3' --kind pump --site summit-reservoir --address plc-reservoir.larkmere.example:4097
sentier device add reservoir-pump-4 --name 'Reservoir pump 4' --kind pump --site summit-reservoir --address plc-reservoir.larkmere.example:4098
sentier device add reservoir-pump-5 --name 'Reservoir pump 5' --kind pump --site summit-reservoir --address plc-reservoir.larkmere.example:4099
sentier device add reservoir-pump-6 --name 'Reservoir pump 6' --kind pump --site summit-reservoir --address plc-reservoir.larkmere.example:4100
sentier device add reservoir-gauge-1 --name 'Reservoir gauge 1' --kind level-gauge --site summit-reservoir --address plc-reservoir.larkmere.example:4101
sentier device add reservoir-gauge-2 --name 'Reservoir gauge 2' --kind level-gauge --site summit-reservoir --address plc-reservoir.larkmere.example:4102
sentier device add reservoir-gauge-3 --name 'Reservoir gauge 3' --kind level-gauge --site summit-reservoir --address plc-reservoir.larkmere.example:4103
sentier device add reservoir-gauge-4 --name 'Reservoir gauge 4' --kind level-gauge --site summit-reservoir --address plc-reservoir.larkmere.example:4104
sentier device add reservoir-gauge-5 --name 'Reservoir gauge 5' --kind level-gauge --site summit-reservoir --address plc-reservoir.larkmere.example:4105
sentier device add reservoir-gauge-6 --name 'Reservoir gauge 6' --kind level-gauge --site summit-reservoir --address plc-reservoir.larkmere.example:4106
sentier device add reservoir-siren --name 'Reservoir siren' --kind siren --site summit-reservoir --address plc-reservoir.larkmere.example:4107
sentier device add reservoir-mast --name 'Reservoir mast' --kind weather-mast --site summit-reservoir --address plc-reservoir.larkmere.example:4108
sentier device add reservoir-light-1 --name 'Reservoir light 1' --kind towpath-light --site summit-reservoir --address plc-reservoir.larkmere.example:4109
sentier device add reservoir-light-2 --name 'Reservoir light 2' --kind towpath-light --site summit-reservoir --address plc-reservoir.larkmere.example:4110
sentier device add reservoir-light-3 --name 'Reservoir light 3' --kind towpath-light --site summit-reservoir --address plc-reservoir.larkmere.example:4111
sentier device add reservoir-light-4 --name 'Reservoir light 4' --kind towpath-light --site summit-reservoir --address plc-reservoir.larkmere.example:4112
sentier device add tunnel-pump-1 --name 'Tunnel pump 1' --kind pump --site tunnel --address plc-tunnel.larkmere.example:4113
sentier device add tunnel-pump-2 --name 'Tunnel pump 2' --kind pump --site tunnel --address plc-tunnel.larkmere.example:4114
sentier device add tunnel-gauge-1 --name 'Tunnel gauge 1' --kind level-gauge --site tunnel --address plc-tunnel.larkmere.example:4115
sentier device add tunnel-gauge-2 --name 'Tunnel gauge 2' --kind level-gauge --site tunnel --address plc-tunnel.larkmere.example:4116
sentier device add tunnel-gauge-3 --name 'Tunnel gauge 3' --kind level-gauge --site tunnel --address plc-tunnel.larkmere.example:4117
sentier device add tunnel-siren-1 --name 'Tunnel siren 1' --kind siren --site tunnel --address plc-tunnel.larkmere.example:4118
sentier device add tunnel-siren-2 --name 'Tunnel siren 2' --kind siren --site tunnel --address plc-tunnel.larkmere.example:4119
sentier device add tunnel-light-1 --name 'Tunnel light 1' --kind towpath-light --site tunnel --address plc-tunnel.larkmere.example:4120
sentier device add tunnel-light-2 --name 'Tunnel light 2' --kind towpath-light --site tunnel --address plc-tunnel.larkmere.example:4121
sentier device add tunnel-light-3 --name 'Tunnel light 3' --kind towpath-light --site tunnel --address plc-tunnel.larkmere.example:4122
sentier device add tunnel-light-4 --name 'Tunnel light 4' --kind towpath-light --site tunnel --address plc-tunnel.larkmere.example:4123
sentier device add tunnel-light-5 --name 'Tunnel light 5' --kind towpath-light --site tunnel --address plc-tunnel.larkmere.example:4124
sentier device add tunnel-light-6 --name 'Tunnel light 6' --kind towpath-light --site tunnel --address plc-tunnel.larkmere.example:4125
sentier device add tunnel-light-7 --name 'Tunnel light 7' --kind towpath-light --site tunnel --address plc-tunnel.larkmere.example:4126
sentier device add tunnel-light-8 --name 'Tunnel light 8' --kind towpath-light --site tunnel --address plc-tunnel.larkmere.example:4127
sentier device add tunnel-light-9 --name 'Tunnel light 9' --kind towpath-light --site tunnel --address plc-tunnel.larkmere.example:4128
sentier device add tunnel-light-10 --name 'Tunnel light 10' --kind towpath-light --site tunnel --address plc-tunnel.larkmere.example:4129
sentier device add tunnel-light-11 --name 'Tunnel light 11' --kind towpath-light --site tunnel --address plc-tunnel.larkmere.example:4130
sentier device add tunnel-light-12 --name 'Tunnel light 12' --kind towpath-light --site tunnel --address plc-tunnel.larkmere.example:4131
sentier device add alder-gate-1 --name 'Alder gate 1' --kind lock-gate --site alder-cut --tags moves --address plc-alder.larkmere.example:4132
sentier device add alder-gate-2 --name 'Alder gate 2' --kind lock-gate --site alder-cut --tags moves --address plc-alder.larkmere.example:4133
sentier device add alder-gate-3 --name 'Alder gate 3' --kind lock-gate --site alder-cut --tags moves --address plc-alder.larkmere.example:4134
sentier device add alder-gate-4 --name 'Alder gate 4' --kind lock-gate --site alder-cut --tags moves --address plc-alder.larkmere.example:4135
sentier device add alder-sluice-1 --name 'Alder sluice 1' --kind sluice --site alder-cut --points 'paddle-a=Paddle A,paddle-b=Paddle B' --address plc-alder.larkmere.example:4136
sentier device add alder-sluice-2 --name 'Alder sluice 2' --kind sluice --site alder-cut --points 'paddle-a=Paddle A,paddle-b=Paddle B' --address plc-alder.larkmere.example:4137
sentier device add alder-sluice-3 --name 'Alder sluice 3' --kind sluice --site alder-cut --points 'paddle-a=Paddle A,paddle-b=Paddle B' --address plc-alder.larkmere.example:4138
sentier device add alder-sluice-4 --name 'Alder sluice 4' --kind sluice --site alder-cut --points 'paddle-a=Paddle A,paddle-b=Paddle B' --address plc-alder.larkmere.example:4139
sentier device add alder-pump-1 --name 'Alder pump 1' --kind pump --site alder-cut --address plc-alder.larkmere.example:4140
sentier device add alder-pump-2 --name 'Alder pump 2' --kind pump --site alder-cut --address plc-alder.larkmere.example:4141
sentier device add alder-gauge-1 --name 'Alder gauge 1' --kind level-gauge --site alder-cut --address plc-alder.larkmere.example:4142
sentier device add alder-gauge-2 --name 'Alder gauge 2' --kind level-gauge --site alder-cut --address plc-alder.larkmere.example:4143
sentier device add alder-gauge-3 --name 'Alder gauge 3' --kind level-gauge --site alder-cut --address plc-alder.larkmere.example:4144
sentier device add alder-gauge-4 --name 'Alder gauge 4' --kind level-gauge --site alder-cut --address plc-alder.larkmere.example:4145
sentier device add alder-siren --name 'Alder siren' --kind siren --site alder-cut --address plc-alder.larkmere.example:4146
sentier device add alder-light-1 --name 'Alder light 1' --kind towpath-light --site alder-cut --address plc-alder.larkmere.example:4147
sentier device add alder-light-2 --name 'Alder light 2' --kind towpath-light --site alder-cut --address plc-alder.larkmere.example:4148
sentier device add alder-light-3 --name 'Alder light 3' --kind towpath-light --site alder-cut --address plc-alder.larkmere.example:4149
sentier device add alder-light-4 --name 'Alder light 4' --kind towpath-light --site alder-cut --address plc-alder.larkmere.example:4150
sentier device add alder-light-5 --name 'Alder light 5' --kind towpath-light --site alder-cut --address plc-alder.larkmere.example:4151
sentier device add alder-light-6 --name 'Alder light 6' --kind towpath-light --site alder-cut --address plc-alder.larkmere.example:4152
sentier device add alder-light-7 --name 'Alder light 7' --kind towpath-light --site alder-cut --address plc-alder.larkmere.example:4153
sentier device add alder-light-8 --name 'Alder light 8' --kind towpath-light --site alder-cut --address plc-alder.larkmere.example:4154
sentier device add alder-light-9 --name 'Alder light 9' --kind towpath-light --site alder-cut --address plc-alder.larkmere.example:4155
sentier device add alder-light-10 --name 'Alder light 10' --kind towpath-light --site alder-cut --address plc-alder.larkmere.example:4156
sentier device add twin-bridge-north --name 'Twin bridge north' --kind lift-bridge --site twin-bridges --tags moves,critical --points deck=Deck,barriers=Barriers,signals=Signals --address plc-twin.larkmere.example:4157
sentier device add twin-bridge-south --name 'Twin bridge south' --kind lift-bridge --site twin-bridges --tags moves,critical --points deck=Deck,barriers=Barriers,signals=Signals --address plc-twin.larkmere.example:4158
sentier device add twin-gauge-1 --name 'Twin gauge 1' --kind level-gauge --site twin-bridges --address plc-twin.larkmere.example:4159
sentier device add twin-gauge-2 --name 'Twin gauge 2' --kind level-gauge --site twin-bridges --address plc-twin.larkmere.example:4160
sentier device add twin-siren-1 --name 'Twin siren 1' --kind siren --site twin-bridges --address plc-twin.larkmere.example:4161
sentier device add twin-siren-2 --name 'Twin siren 2' --kind siren --site twin-bridges --address plc-twin.larkmere.example:4162
sentier device add twin-light-1 --name 'Twin light 1' --kind towpath-light --site twin-bridges --address plc-twin.larkmere.example:4163
sentier device add twin-light-2 --name 'Twin light 2' --kind towpath-light --site twin-bridges --address plc-twin.larkmere.example:4164
sentier device add twin-light-3 --name 'Twin light 3' --kind towpath-light --site twin-bridges --address plc-twin.larkmere.example:4165
sentier device add twin-light-4 --name 'Twin light 4' --kind towpath-light --site twin-bridges --address plc-twin.larkmere.example:4166
sentier device add twin-light-5 --name 'Twin light 5' --kind towpath-light --site twin-bridges --address plc-twin.larkmere.example:4167
sentier device add twin-light-6 --name 'Twin light 6' --kind towpath-light --site twin-bridges --address plc-twin.larkmere.example:4168
sentier device add twin-light-7 --name 'Twin light 7' --kind towpath-light --site twin-bridges --address plc-twin.larkmere.example:4169
sentier device add twin-light-8 --name 'Twin light 8' --kind towpath-light --site twin-bridges --address plc-twin.larkmere.example:4170
sentier device add twin-mast --name 'Twin mast' --kind weather-mast --site twin-bridges --address plc-twin.larkmere.example:4171
sentier device add yard-pump-1 --name 'Yard pump 1' --kind pump --site works-yard --address plc-yard.larkmere.example:4172
sentier device add yard-pump-2 --name 'Yard pump 2' --kind pump --site works-yard --address plc-yard.larkmere.example:4173
sentier device add yard-gauge --name 'Yard gauge' --kind level-gauge --site works-yard --address plc-yard.larkmere.example:4174
sentier device add yard-light-1 --name 'Yard light 1' --kind towpath-light --site works-yard --address plc-yard.larkmere.example:4175
sentier device add yard-light-2 --name 'Yard light 2' --kind towpath-light --site works-yard --address plc-yard.larkmere.example:4176
sentier device add yard-light-3 --name 'Yard light 3' --kind towpath-light --site works-yard --address plc-yard.larkmere.example:4177
sentier device add yard-light-4 --name 'Yard light 4' --kind towpath-light --site works-yard --address plc-yard.larkmere.example:4178
sentier device add control-room-siren --name 'Control room siren' --kind siren --site control-room --address plc-control-room.larkmere.example:4179
sentier device add control-room-mast --name 'Control room mast' --kind weather-mast --site control-room --address plc-control-room.larkmere.example:4180
sentier device add found-1 --name 'Found device 1' --kind level-gauge --tags discovered --address 10.20.9.11:502
sentier device add found-2 --name 'Found device 2' --kind level-gauge --tags discovered --address 10.20.9.12:502
sentier device add found-3 --name 'Found device 3' --kind siren --tags discovered --address 10.20.9.13:502
sentier device add found-4 --name 'Found device 4' --kind towpath-light --tags discovered --address 10.20.9.14:502
sentier device edit brindle-gate-7 brindle-sluice-7 mill-pump-2 reservoir-gauge-4 alder-gate-3 alder-sluice-2 --state maintenance
sentier device edit saltmarsh-sluice-4 yard-pump-2 --state retired
sentier device lock-out estuary-gate-1 --by ines.carvalho --reason 'Divers below the gate: inspection of the sill' --from 2026-11-24T00:00:00Z

# Groups of devices
sentier device-group add water-works --name 'Water works'
sentier device-group add sluices --name Sluices --parent water-works --match-kinds sluice
sentier device-group add pumps --name Pumps --parent water-works --match-kinds pump
sentier device-group add locks --name Locks
sentier device-group add brindle-locks --name 'Brindle locks' --parent locks --match-kinds lock-gate,sluice --match-sites brindle-flight
sentier device-group add north-locks --name 'Northern locks' --parent locks
sentier device-group add north-locks alder-gate-1 alder-gate-2 alder-gate-3 alder-gate-4 alder-sluice-1 alder-sluice-2 alder-sluice-3 alder-sluice-4
sentier device-group add south-locks --name 'Southern locks' --parent locks
sentier device-group add south-locks estuary-gate-1 estuary-gate-2 estuary-sluice-1 estuary-sluice-2 estuary-sluice-3 estuary-sluice-4 mill-gate-1 mill-gate-2 mill-sluice-1 mill-sluice-2 mill-sluice-3
sentier device-group add bridges --name Bridges --match-kinds lift-bridge
sentier device-group add gauges --name Gauges --match-kinds level-gauge
sentier device-group add public-warning --name 'Public warning' --match-kinds siren
sentier device-group add towpath --name Towpath --match-kinds towpath-light
sentier device-group add critical --name 'Critical equipment' --match-tags critical
sentier device-group add winter-list --name 'Winter works list'
sentier device-group add winter-list alder-gate-3 alder-sluice-2 brindle-gate-7 brindle-sluice-7 mill-pump-2 reservoir-gauge-4 tunnel-pump-1 tunnel-pump-2

# People
sentier user edit ines.carvalho --name 'Ines Carvalho' --email ines.carvalho@larkmere.example
sentier user add bram.okafor --name 'Bram Okafor' --email bram.okafor@larkmere.example
sentier user add lena.marsh --name 'Lena Marsh' --email lena.marsh@larkmere.example
sentier user add marta.solis --name 'Marta Solis' --email marta.solis@larkmere.example
sentier user add tomas.field --name 'Tomas Field' --email tomas.field@larkmere.example
sentier user add noor.haddad --name 'Noor Haddad' --email noor.haddad@larkmere.example
sentier user add agnes.lindqvist --name 'Agnes Lindqvist' --email agnes.lindqvist@larkmere.example
sentier user add piet.vermeulen --name 'Piet Vermeulen' --email piet.vermeulen@larkmere.example
sentier user add rosa.almeida --name 'Rosa Almeida' --email rosa.almeida@larkmere.example
sentier user add duarte.pinho --name 'Duarte Pinho' --email duarte.pinho@larkmere.example
sentier user add hana.novak --name 'Hana Novak' --email hana.novak@larkmere.example
sentier user add jonas.weir --name 'Jonas Weir' --email jonas.weir@larkmere.example
sentier user add clara.fontes --name 'Clara Fontes' --email clara.fontes@larkmere.example
sentier user add milo.brandt --name 'Milo Brandt' --email milo.brandt@larkmere.example
sentier user add sofia.reis --name 'Sofia Reis' --email sofia.reis@larkmere.example
sentier user add owen.thatcher --name 'Owen Thatcher' --email owen.thatcher@larkmere.example
sentier user add ilse.maas --name 'Ilse Maas' --email ilse.maas@larkmere.example
sentier user add rui.falcao --name 'Rui Falcao' --email rui.falcao@larkmere.example
sentier user add greta.holm --name 'Greta Holm' --email greta.holm@larkmere.example
sentier user add nuno.teles --name 'Nuno Teles' --email nuno.teles@larkmere.example
sentier user add asha.raman --name 'Asha Raman' --email asha.raman@larkmere.example
sentier user add felix.arden --name 'Felix Arden' --email felix.arden@larkmere.example
sentier user add vera.kovac --name 'Vera Kovac' --email vera.kovac@larkmere.example
sentier user add hugo.prado --name 'Hugo Prado' --email hugo.prado@larkmere.example
sentier user add ines.serrano --name 'Ines Serrano' --email ines.serrano@larkmere.example
sentier user add callum.reeve --name 'Callum Reeve' --email callum.reeve@larkmere.example
sentier user add beatriz.leal --name 'Beatriz Leal' --email beatriz.leal@larkmere.example
sentier user add anders.vik --name 'Anders Vik' --email anders.vik@larkmere.example
sentier user add julia.moreno --name 'Julia Moreno' --email julia.moreno@larkmere.example
sentier user add samir.aziz --name 'Samir Aziz' --email samir.aziz@larkmere.example
sentier user add petra.kolar --name 'Petra Kolar' --email petra.kolar@larkmere.example
sentier user add diogo.matos --name 'Diogo Matos' --email diogo.matos@larkmere.example
sentier user add elin.berg --name 'Elin Berg' --email elin.berg@larkmere.example
sentier user add marco.duarte --name 'Marco Duarte' --email marco.duarte@larkmere.example
sentier user add tessa.quill --name 'Tessa Quill' --email tessa.quill@larkmere.example
sentier user add paulo.neves --name 'Paulo Neves' --email paulo.neves@larkmere.example
sentier user add irene.castro --name 'Irene Castro' --email irene.castro@larkmere.example
sentier user add kofi.mensah --name 'Kofi Mensah' --email kofi.mensah@larkmere.example
sentier user add sanne.dekker --name 'Sanne Dekker' --email sanne.dekker@larkmere.example
sentier user add luis.ortega --name 'Luis Ortega' --email luis.ortega@larkmere.example
sentier user add maya.winter --name 'Maya Winter' --email maya.winter@larkmere.example
sentier user add joao.freitas --name 'Joao Freitas' --email joao.freitas@larkmere.example
sentier user add edith.crane --name 'Edith Crane' --email edith.crane@larkmere.example
sentier user add tiago.ramos --name 'Tiago Ramos' --email tiago.ramos@larkmere.example
sentier user add nadia.petrov --name 'Nadia Petrov' --email nadia.petrov@larkmere.example
sentier user add simon.hale --name 'Simon Hale' --email simon.hale@larkmere.example
sentier user add carla.pires --name 'Carla Pires' --email carla.pires@larkmere.example
sentier user add ben.foster --name 'Ben Foster' --email ben.foster@larkmere.example
sentier user add aline.costa --name 'Aline Costa' --email aline.costa@larkmere.example
sentier user add yusuf.demir --name 'Yusuf Demir' --email yusuf.demir@larkmere.example
sentier user add freya.dahl --name 'Freya Dahl' --email freya.dahl@larkmere.example --from 2027-01-04T00:00:00Z
sentier user add mateus.lobo --name 'Mateus Lobo' --email mateus.lobo@larkmere.example
sentier user add olga.stern --name 'Olga Stern' --email olga.stern@larkmere.example
sentier user add ivo.santos --name 'Ivo Santos' --email ivo.santos@larkmere.example --until 2026-09-30T22:00:00Z
sentier user add hester.blom --name 'Hester Blom' --email hester.blom@larkmere.example --status invited
sentier user add rafael.gil --name 'Rafael Gil' --email rafael.gil@larkmere.example --status invited
sentier user add night-backup --name 'Night backup' --kind service
sentier user add gateway-locks --name 'Gateway, locks' --kind service
sentier user add gateway-bridges --name 'Gateway, bridges' --kind service
sentier user add gateway-water --name 'Gateway, water' --kind service
sentier user suspend ben.foster
sentier group add bridge-crew --name 'Bridge crew'
sentier group add-member bridge-crew tomas.field rui.falcao greta.holm nuno.teles luis.ortega julia.moreno
sentier group add water-controllers --name 'Water controllers'
sentier group add-member water-controllers asha.raman felix.arden vera.kovac hugo.prado paulo.neves
sentier group add instrument-technicians --name 'Instrument technicians' --second-factor required
sentier group add-member instrument-technicians tomas.field callum.reeve beatriz.leal anders.vik
sentier group add winter-contractors --name 'Winter contractors'
sentier group add-member winter-contractors noor.haddad --from 2026-11-02T00:00:00Z --until 2026-11-27T17:00:00Z
sentier group add-member winter-contractors samir.aziz --from 2026-11-02T00:00:00Z --until 2027-02-19T17:00:00Z
sentier group add-member winter-contractors petra.kolar --until 2027-02-19T17:00:00Z
sentier group add-member winter-contractors diogo.matos --until 2026-03-31T17:00:00Z
sentier group add volunteers --name Volunteers
sentier group add-member volunteers edith.crane tiago.ramos nadia.petrov simon.hale carla.pires ben.foster aline.costa hester.blom
sentier group add apprentices --name Apprentices
sentier group add-member apprentices elin.berg marco.duarte tessa.quill freya.dahl
sentier group add control-room --name 'Control room' --second-factor required --password-days 180
sentier group add-member control-room irene.castro kofi.mensah sanne.dekker maya.winter joao.freitas
sentier group add duty-officers --name 'Duty officers' --second-factor required --password-days 180
sentier group add-member duty-officers bram.okafor irene.castro rosa.almeida
sentier group add night-watch --name 'Night watch'
sentier group add-member night-watch yusuf.demir mateus.lobo luis.ortega
sentier group add border-arm-staff --name 'Border Arm staff'
sentier group add-member border-arm-staff marta.solis ines.serrano julia.moreno luis.ortega
sentier group add backup-services --name 'Backup services'
sentier group add-member backup-services night-backup
sentier group add telemetry-trial --name 'Telemetry trial' --enabled false --group-note 'Left from the trial of 2025.'
sentier group add-member telemetry-trial olga.stern callum.reeve ivo.santos
sentier group add lock-keepers-north --name 'Lock keepers, north' --includes apprentices
sentier group add-member lock-keepers-north agnes.lindqvist piet.vermeulen rosa.almeida duarte.pinho hana.novak jonas.weir
sentier group add lock-keepers-south --name 'Lock keepers, south' --includes apprentices
sentier group add-member lock-keepers-south clara.fontes milo.brandt sofia.reis owen.thatcher ilse.maas
sentier group edit bridge-crew --join-groups lock-keepers-north,lock-keepers-south --join-minutes 480 --join-approval mandate
sentier group edit duty-officers --join-groups control-room --join-minutes 240 --join-approval none

# Times
sentier calendar add closures --name Closures --day '2026-12-08 Drill day' --day '2026-12-25 Christmas' --day '2027-01-01 New Year' --day '2027-02-08..2027-02-12 Lock dewatering' --day '2027-12-25 Christmas'
sentier calendar add regatta --name Regatta --day '2026-12-05..2026-12-06 Regatta'
sentier schedule add navigation-summer --name 'Navigation hours, summer' --window 07:00-20:00 --season 04-01..10-31 --closed closures --special 'regatta 05:00-23:00'
sentier schedule add navigation-winter --name 'Navigation hours, winter' --window 'mon,tue,wed,thu,fri 08:00-16:00' --window 'sat 09:00-13:00' --season 11-01..03-31 --closed closures --special 'regatta 05:00-23:00'
sentier schedule add night-watch --name 'Night watch' --window 22:00-06:00
sentier schedule add winter-works --name 'Winter works' --window 'mon,tue,wed,thu,fri 07:30-16:30' --dates 2026-11-02..2027-02-19 --closed closures
sentier schedule add weekend-volunteers --name 'Weekend volunteers' --window 'sat,sun 09:00-17:00' --closed closures
sentier schedule add office-hours --name 'Office hours' --zone Europe/Lisbon --window 'mon,tue,wed,thu,fri 08:00-18:00' --closed closures
sentier schedule add backup-window --name 'Backup window' --zone Europe/Lisbon --window 01:00-04:30 --schedule-note 'After the gauges have sent the day before.'
sentier schedule add telemetry-trial --name 'Telemetry trial' --window 00:00-24:00 --dates 2025-03-01..2025-05-31

# Grants
sentier grant add look-around --name 'Everyone looks at the weather' --to-everyone true --grant-note 'The masts are on the public page as well.'
sentier grant give --grant look-around --role look-only --device estuary-mast,saltmarsh-mast,reservoir-mast,twin-mast,control-room-mast
sentier grant add locks-north --name 'Lock keeping, north' --to-groups lock-keepers-north
sentier grant give --grant locks-north --role lock-keeping --device-group north-locks --when navigation-summer,navigation-winter
sentier grant give --grant locks-north --role look-only --site border-arm
sentier grant add locks-south --name 'Lock keeping, south' --to-groups lock-keepers-south
sentier grant give --grant locks-south --role lock-keeping --device-group south-locks,brindle-locks --when navigation-summer,navigation-winter
sentier grant give --grant locks-south --role look-only --site tidal-reach,lower-pounds
sentier grant add locks-release --name 'Emergency release of locks' --to-groups lock-keepers-north,lock-keepers-south --grant-note 'Only while somebody stands at the gate.'
sentier grant give --grant locks-release --right release --device-group locks --if-attended true
sentier grant add bridge-watch --name 'Bridge watch' --to-groups bridge-crew --grant-note 'Bridges in navigation hours; their barriers always.'
sentier grant give --grant bridge-watch --role bridge-watch --device-group bridges --when navigation-summer,navigation-winter --limit minutes=30
sentier grant give --grant bridge-watch --right control --point mill-bridge/barriers,twin-bridge-north/barriers,twin-bridge-south/barriers
sentier grant add bridge-release --name 'Emergency release of bridges' --to-groups bridge-crew
sentier grant give --grant bridge-release --right release --device-group bridges --if-strong-sign-in true --if-attended true
sentier grant add mill-bridge-on-site --name 'Keepers work the mill bridge where they stand' --to-groups lock-keepers-south --grant-note 'Whoever stands at it may work it; from elsewhere they look.'
sentier grant give --grant mill-bridge-on-site --right control --device mill-bridge --if-place mill-basin
sentier grant give --grant mill-bridge-on-site --role look-only --device mill-bridge
sentier grant add night-bridges --name 'Night watch opens the twin bridges' --to-groups night-watch --grant-note 'The bridges keep Madrid time.'
sentier grant give --grant night-bridges --right control --device twin-bridge-north,twin-bridge-south --when night-watch --limit minutes=15
sentier grant give --grant night-bridges --right acknowledge --site twin-bridges --when night-watch
sentier grant add water-control --name 'Water control' --to-groups water-controllers
sentier grant give --grant water-control --role water-control --device-group water-works
sentier grant give --grant water-control --right history --device-group gauges
sentier grant add water-critical --name 'Setpoints from the control room only' --to-groups water-controllers
sentier grant give --grant water-critical --right setpoint --device-group critical --if-network 10.20.0.0/16
sentier grant add instruments --name 'Instrument care' --to-groups instrument-technicians
sentier grant give --grant instruments --role instrument-care --device-group gauges
sentier grant add instruments-strong --name 'Weather masts with strong sign-in' --to-groups instrument-technicians
sentier grant give --grant instruments-strong --right control,history --device estuary-mast,saltmarsh-mast,reservoir-mast,twin-mast,control-room-mast --if-strong-sign-in true
sentier grant add winter-works --name 'Winter works' --to-groups winter-contractors --from 2026-11-02T00:00:00Z --until 2027-02-20T00:00:00Z --grant-note 'Only what is taken out of service may be moved.'
sentier grant give --grant winter-works --right control --device-group winter-list --when winter-works --if-state maintenance
sentier grant give --grant winter-works --role look-only --device-group winter-list --when winter-works
sentier grant add volunteers --name 'Volunteers on the flight' --to-groups volunteers
sentier grant give --grant volunteers --right control --device-group brindle-locks --when weekend-volunteers
sentier grant give --grant volunteers --role look-only --site brindle-flight
sentier grant add volunteers-lights --name 'Volunteers switch the towpath lights' --to-groups volunteers
sentier grant give --grant volunteers-lights --right control --device-group towpath --when weekend-volunteers
sentier grant add apprentices-no-release --name 'Apprentices do not release' --to-groups apprentices --effect deny --grant-note 'They are keepers through their group, and a keeper may release.'
sentier grant give --grant apprentices-no-release --right release --everything
sentier grant add apprentices-no-night --name 'Apprentices do not work at night' --to-groups apprentices --effect deny
sentier grant give --grant apprentices-no-night --right control --everything --when night-watch
sentier grant add control-room --name 'Control room' --to-groups control-room --grant-note 'Sirens only from the control room'"'"'s own network.'
sentier grant give --grant control-room --right acknowledge,history --site larkmere
sentier grant give --grant control-room --right control --device-group public-warning --if-network 10.20.0.0/16,2001:db8:20::/48
sentier grant add control-room-pumps --name 'Control room starts pumps' --to-groups control-room
sentier grant give --grant control-room-pumps --right setpoint --device-group pumps --if-network 10.20.0.0/16
sentier grant add duty --name 'Duty officers' --to-groups duty-officers
sentier grant give --grant duty --right control,history,acknowledge --everything --if-strong-sign-in true
sentier grant give --grant duty --role look-only --everything
sentier grant add duty-release --name 'Duty officers release' --to-groups duty-officers
sentier grant give --grant duty-release --right release --everything --if-strong-sign-in true --if-attended true
sentier grant add border-arm --name 'Border Arm staff' --to-groups border-arm-staff
sentier grant give --grant border-arm --right acknowledge --site border-arm --when office-hours
sentier grant give --grant border-arm --role lock-keeping --site alder-cut --when navigation-summer,navigation-winter
sentier grant add border-arm-bridges --name 'Border Arm staff on the bridges' --to-groups border-arm-staff --grant-note 'Some of them are in the bridge crew too, and hold it twice.'
sentier grant give --grant border-arm-bridges --role bridge-watch --device twin-bridge-north,twin-bridge-south --when navigation-summer,navigation-winter
sentier grant add backup --name 'Night backup' --to-groups backup-services --grant-note 'One right on one group.'
sentier grant give --grant backup --role night-backup --device-group gauges --when backup-window
sentier grant add telemetry-trial --name 'Telemetry trial' --to-groups telemetry-trial --grant-note 'Left over: the group is disabled, the schedule never opens again.'
sentier grant give --grant telemetry-trial --right history,setpoint --site summit --when telemetry-trial
sentier grant add telemetry-callum --name 'Callum reads the trial' --to-users callum.reeve
sentier grant give --grant telemetry-callum --right history --site summit-reservoir --when telemetry-trial
sentier grant add petra-tunnel --name 'Petra at the tunnel pumps' --to-users petra.kolar --from 2026-11-09T00:00:00Z --until 2026-12-05T00:00:00Z --grant-note 'While pump 1 is rebuilt.'
sentier grant give --grant petra-tunnel --right setpoint --device tunnel-pump-1,tunnel-pump-2
sentier grant add sirens-quiet --name 'No sirens from the towpath crew' --to-groups volunteers,winter-contractors --effect deny
sentier grant give --grant sirens-quiet --right control --device-group public-warning
sentier grant add retired-deny --name 'Reservoir closed to contractors' --to-groups winter-contractors --effect deny --enabled false --grant-note 'Kept for the next flood season.'
sentier grant give --grant retired-deny --right view --site summit-reservoir --here
sentier grant add yard --name 'Works yard' --to-groups lock-keepers-north,lock-keepers-south,bridge-crew
sentier grant give --grant yard --right control --site works-yard --when office-hours
sentier grant add regatta-sirens --name 'Regatta start signal' --to-users edith.crane --enabled false --from 2026-12-05T00:00:00Z --until 2026-12-07T00:00:00Z
sentier grant give --grant regatta-sirens --right control --device brindle-siren --when navigation-summer

# What must always hold
sentier expectation add apprentices-never-release --name 'Apprentices never release' --expect never --who-groups apprentices --rights release --on-everything true --expectation-note 'Whatever else they are given.'
sentier expectation add backup-never-controls --name 'The backup service never controls' --expect never --who-users night-backup --rights control --on-everything true
sentier expectation add bridges-have-two --name 'Two people can always open every bridge' --expect someone --at-least 2 --who-everyone true --rights control --on-device-groups bridges
sentier expectation add control-room-sees-all --name 'The control room always sees what is at Larkmere' --expect always --who-groups control-room --rights view --on-sites larkmere

# Who may administer
sentier mandate add owners --name Owners --role owner --to-users ines.carvalho
sentier mandate add deputy --name 'Deputy owner' --role owner --to-users bram.okafor
sentier mandate add audit --name Audit --role auditor --to-users lena.marsh
sentier mandate add gateways --name Gateways --role enforcement --to-users gateway-locks,gateway-bridges,gateway-water
sentier mandate add border-arm-manager --name 'Border Arm manager' --role delegate --to-users marta.solis --sites border-arm --groups border-arm-staff --rights control,acknowledge
sentier mandate remove owner-ines.carvalho
