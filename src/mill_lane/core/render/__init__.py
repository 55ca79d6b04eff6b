"""The path tracer:

acceleration, textures, materials, lights, fog, camera, sampler, integrator, film, session.
"""
