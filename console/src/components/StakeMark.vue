<script setup lang="ts">
/** Three stakes on a ground line. The word always stands beside it, so it is hidden from readers. */
defineProps<{ kind: 'allowed' | 'denied' | 'undetermined'; size?: number }>()
</script>

<template>
  <svg :class="kind" :width="size ?? 16" :height="size ?? 16" viewBox="0 0 16 16" aria-hidden="true">
    <g fill="none" stroke="currentColor" stroke-width="1.6">
      <path d="M3 14V3.2L4 2l1 1.2V14M11 14V3.2L12 2l1 1.2V14M1 14.4h14" />
      <path v-if="kind === 'denied'" d="M7 14V3.2L8 2l1 1.2V14M1.5 8h13" />
      <path v-if="kind === 'undetermined'" d="M8 2v12" stroke-dasharray="2 1.6" />
    </g>
  </svg>
</template>
