<script setup lang="ts">
/** Prints the view, on paper or as PDF, by the browser's own dialog. */
import Button from "primevue/button";

const print = () => window.print();
</script>

<template><Button size="small" text label="Print" title="On paper, or as PDF" @click="print" /></template>
