# libreswan
launch
refused
save
