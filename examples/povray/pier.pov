// Lantern Quay: a lantern sways over the planks of a pier.
#version 3.7;
global_settings { assumed_gamma 1.0 }
#include "colors.inc"
#include "lamp.inc"

camera { location <0, 1.6, -4> right x*16/9 look_at <0, 1.1, 0> angle 45 }
light_source { <-4, 6, -5> color rgb <0.35, 0.4, 0.6> }
background { color rgb <0.02, 0.03, 0.06> }

plane { y, 0
  texture {
    pigment { image_map { png "planks.png" interpolate 2 } rotate x*90 scale 2 }
    finish { ambient 0.05 diffuse 0.8 }
  }
}
object { Lamp(clock) translate <0, 2.2, 0> }
text { ttf "timrom.ttf" "QUAY 10" 0.1, 0 pigment { color White } scale 0.35 translate <-0.75, 0.02, 0.4> }
